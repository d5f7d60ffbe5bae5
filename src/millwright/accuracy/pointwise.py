"""The log likelihood of each value of the outcomes, at each draw, a block of rows at a time."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from millwright.cores import one_thread
from millwright.distributions import on_numpy
from millwright.distributions.processes import GaussianProcess
from millwright.draws.labelled_draws import Draws
from millwright.draws.matern_moments import MANY_ROWS, draws_at_once, left_out, noisy_readings
from millwright.errors import ModelError
from millwright.modelling.along_one_axis import along_one_axis
from millwright.modelling.arguments import family_of
from millwright.modelling.density import log_likelihood
from millwright.modelling.labelled import DRAW, full
from millwright.modelling.left_out import likelihood_axes, of_rows, row_axis
from millwright.modelling.missing import without_gaps
from millwright.modelling.shaping import spread_arguments
from millwright.modelling.specification import Part

__all__ = ["Rows", "log_likelihood_of", "outcome_rows", "row_blocks"]

Rows = tuple[tuple[str, int], ...]
"""Outcome and row, counted from 1."""

_DRAWS_AT_ONCE, _ENTRIES = 200, 30_000_000
_NUMBERS_AT_ONCE = 1_000_000
"""Log likelihoods in one block; working them out takes several arrays of this size."""


def outcome_rows(draws: Draws) -> Rows:
    """Return outcome and row of each value that has a log likelihood of its own."""
    found: list[tuple[str, int]] = []
    for part in draws.binding.program.outcomes:
        found += [(part.name, int(at) + 1) for at in _numbers(draws, part)]
    return tuple(found)


def row_blocks(draws: Draws) -> Iterator[tuple[Rows, np.ndarray]]:
    """Yield rows in their order with their log likelihoods, shape (draws, rows).

    A block has about a million numbers where rows can be worked out apart: that is where no
    row's value rests on others, and no unknown has a value a row. Else an outcome is a block.

    Raises
    ------
    ModelError
        For outcomes whose rows depend on each other, other than a Gaussian process.
    """
    size = int(np.prod(draws.shape))
    for part in draws.binding.program.outcomes:
        numbers = _numbers(draws, part)
        step = max(1, _NUMBERS_AT_ONCE // size)
        if len(numbers) <= step or row_axis(draws.binding, part) is None:
            step = max(1, len(numbers))
        for start in range(0, len(numbers), step):
            some = numbers[start : start + step]
            rows = tuple((part.name, int(at) + 1) for at in some)
            yield rows, _of_part(draws, part, some)


def log_likelihood_of(draws: Draws, name: str, numbers: Sequence[int]) -> np.ndarray:
    """Return the log likelihoods of some rows of an outcome, counted from 0: (draws, rows)."""
    part = next(one for one in draws.binding.program.outcomes if one.name == name)
    return _of_part(draws, part, np.asarray(numbers, dtype=int))


def _numbers(draws: Draws, part: Part) -> np.ndarray:
    """Return the places, from 0, of the values that were seen: no other can be left out."""
    axes = (
        likelihood_axes(draws.binding, part) or dict(draws.binding.program.outcome_axes)[part.name]
    )
    numbers = np.arange(int(np.prod(draws.binding.program.shape(axes))))
    if part.name in draws.binding.program.filled:
        return without_gaps(numbers, draws.binding.arguments["gaps", part.name])
    return numbers


def _of_part(draws: Draws, part: Part, numbers: np.ndarray) -> np.ndarray:
    size = int(np.prod(draws.shape))
    with np.errstate(all="ignore"):
        if not likelihood_axes(draws.binding, part):
            return _conditional(draws, part, size)[:, numbers]
        axis = row_axis(draws.binding, part)
        if axis is not None:
            here = of_rows(draws.binding, part, axis, numbers)
            item = log_likelihood(draws.evaluation(here), part)
            return full(item, (DRAW, axis), (size, len(numbers)))
        item = log_likelihood(draws.evaluation(), part)
        shape = (size, *draws.binding.program.shape(item.labels))
        return full(item, (DRAW, *item.labels), shape).reshape(size, -1)[:, numbers]


@one_thread
def _conditional(draws: Draws, part: Part, size: int) -> np.ndarray:
    """Log density of each row given the other rows and the unknowns, for a Gaussian process.

    Rasmussen and Williams (2006), eq. 5.10 to 5.12.

    Raises
    ------
    ModelError
        For other outcomes whose rows depend on each other.
    """
    family = family_of(part.family, part.arguments)
    if not isinstance(family, GaussianProcess):
        raise ModelError(
            part.definition.message(
                "its rows depend on each other, so leaving one out says little about predicting "
                "the next; compare forecasts instead"
            )
        )
    binding = draws.binding
    axes = (DRAW, *dict(binding.program.outcome_axes)[part.name])
    seen = np.asarray(binding.arguments["observed", part.name])
    result = np.empty((size, len(seen)))
    first = along_one_axis(draws.evaluation(keep=slice(0, 1)), part)
    in_order = first is not None and len(seen) > MANY_ROWS and first.x.ndim == 1
    step = max(1, min(_DRAWS_AT_ONCE, _ENTRIES // len(seen) ** 2))
    if in_order and first is not None:
        step = draws_at_once(first.kernel, len(seen))
    for start in range(0, size, step):
        keep = slice(start, min(start + step, size))
        along = along_one_axis(draws.evaluation(keep=keep), part) if in_order else None
        if along is not None:
            given = noisy_readings(along, seen, keep.stop - start)
            result[keep] = _normal(*left_out(given))
            continue
        named = draws.evaluation(keep=keep).parameters(part)
        p = spread_arguments(on_numpy, part, named, axes, binding.program)
        precision = np.linalg.inv(np.asarray(family.covariance(on_numpy, p)))
        variance = 1 / np.diagonal(precision, axis1=-2, axis2=-1)
        gap = variance * np.einsum("...ij,...j->...i", precision, seen - p["location"])
        result[keep] = _normal(gap, variance)
    return result


def _normal(gap: np.ndarray, variance: np.ndarray) -> np.ndarray:
    """Return normal log densities at a distance from the mean."""
    found: np.ndarray = -0.5 * (gap * gap / variance + np.log(2 * np.pi * variance))
    return found
