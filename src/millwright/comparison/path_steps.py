"""Evidences of one model after each of several numbers of rows, and its estimates there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from millwright.draws.expressions import chosen_numbers
from millwright.draws.labelled_draws import from_positions
from millwright.errors import ModelError
from millwright.evidence.along_rows import AlongRows, Particles, along_rows
from millwright.evidence.annealed import SplitValues, resampled
from millwright.evidence.of_fit import density_in_pieces, split_in_pieces
from millwright.evidence.quadrature import log_integral
from millwright.fitting.target import target_of_first_rows
from millwright.modelling.binding import Binding
from millwright.modelling.labelled import DRAW, Labelled
from millwright.modelling.same_shape import row_counts
from millwright.modelling.simulate import positions_from
from millwright.sampling.streams import Stream, generator_of

__all__ = ["ModelSteps", "model_steps", "steps_at_point"]

MOST_BY_QUADRATURE = 3
TOLERANCE = 1e-4
_PRIOR_DRAWS = 4000
_BY_ROWS = "sequential Monte Carlo over the rows"
_QUANTILES = (0.5, 0.025, 0.975)


@dataclass(frozen=True, kw_only=True)
class ModelSteps:
    """What one model says after each number of rows.

    Attributes
    ----------
    log_values, standard_errors
        Log evidences with their errors; NaN where one could not be found.
    way
        How they were found.
    estimates
        Of each quantity that was asked for mean, sd, median and the ends of the central 95 %
        interval, shape (steps, 5).
    """

    log_values: np.ndarray = field(repr=False)
    standard_errors: np.ndarray = field(repr=False)
    way: str
    estimates: dict[str, np.ndarray] = field(default_factory=dict, repr=False)


def model_steps(
    name: str, binding: Binding, rows: np.ndarray, quantities: Sequence[str], seed: int
) -> ModelSteps:
    """Return evidences after each number of rows: by quadrature for up to three unknowns.

    Others, and the estimates, come from sequential Monte Carlo over the rows.

    Raises
    ------
    ModelError
        For improper priors, terms in the log density, or rows that depend on each other.
    """
    axis = _row_axis(name, binding)
    if target_of_first_rows(binding, axis, 0).prior_draws is None:
        raise ModelError(f"`{name}` has an improper prior, so it has no evidence.")
    few = binding.dimension <= MOST_BY_QUADRATURE
    along = None
    if quantities or not few:
        along = _along(binding, axis, rows, seed, 1 if few else 4)
    estimates = {}
    if along is not None and quantities:
        estimates = _estimates(binding, along.particles, quantities, seed)
    if few:
        values, errors, way = _lattice_first(binding, axis, rows, seed)
    else:
        assert along is not None
        values, errors, way = along.log_values, along.standard_errors, _BY_ROWS
    return ModelSteps(log_values=values, standard_errors=errors, way=way, estimates=estimates)


def steps_at_point(
    name: str, binding: Binding, rows: np.ndarray, null: Mapping[str, float]
) -> ModelSteps:
    """Return log likelihoods after each number of rows where all unknowns are held at values.

    Raises
    ------
    ModelError
        As for `model_steps`.
    """
    axis = _row_axis(name, binding)
    held = {
        part.name: Labelled(
            np.full((1, *binding.program.shape(part.axes)), null[part.name]), (DRAW, *part.axes)
        )
        for part in binding.program.unknowns
    }
    with np.errstate(all="ignore"):
        position = positions_from(binding, binding.evaluation(held))
    values = [
        float(split_in_pieces(target_of_first_rows(binding, axis, int(count)))(position)[1][0])
        for count in rows
    ]
    return ModelSteps(
        log_values=np.array(values), standard_errors=np.zeros(len(rows)), way="quadrature"
    )


def _lattice_first(
    binding: Binding, axis: str, rows: np.ndarray, seed: int
) -> tuple[np.ndarray, np.ndarray, str]:
    """Return log evidences by quadrature, and by particles at the steps where it does not settle.

    That is where few rows leave a skewed posterior, such as a scale after one row.
    """
    values = _by_quadrature(binding, axis, rows)
    errors = np.full(len(rows), TOLERANCE / 2.5)
    left = np.isnan(values)
    if not left.any():
        return values, errors, "quadrature"
    along = _along(binding, axis, rows[: np.flatnonzero(left)[-1] + 1], seed, 4)
    values[left] = along.log_values[left[: len(along.log_values)]]
    errors[left] = along.standard_errors[left[: len(along.log_values)]]
    steps = "1 step" if left.sum() == 1 else f"{left.sum()} steps"
    return values, errors, f"quadrature, and at {steps} {_BY_ROWS}"


def _along(binding: Binding, axis: str, rows: np.ndarray, seed: int, times: int) -> AlongRows:
    def split_at(count: int) -> SplitValues:
        return split_in_pieces(target_of_first_rows(binding, axis, count))

    draw = target_of_first_rows(binding, axis, 0).prior_draws
    assert draw is not None
    generator = generator_of(seed, Stream.EVIDENCE)
    return along_rows(draw, split_at, [int(count) for count in rows], generator, times)


def _estimates(
    binding: Binding, particles: Sequence[Particles], quantities: Sequence[str], seed: int
) -> dict[str, np.ndarray]:
    generator = generator_of(seed, Stream.REPLICATION)
    steps = []
    for one in particles:
        even = one.positions[resampled(one.log_weights, generator)]
        steps.append(chosen_numbers(from_positions(binding, even[None]), list(quantities)))
    return {
        name: np.array(
            [
                [step[name].mean(), step[name].std(), *np.quantile(step[name], _QUANTILES)]
                for step in steps
            ]
        )
        for name in steps[0]
    }


def _by_quadrature(binding: Binding, axis: str, rows: np.ndarray) -> np.ndarray:
    """Return the log evidence after each number of rows."""
    draw = target_of_first_rows(binding, axis, 0).prior_draws
    assert draw is not None
    drawn = draw(np.random.default_rng(0), _PRIOR_DRAWS)
    drawn = drawn[np.isfinite(drawn).all(axis=1)]
    centre = drawn.mean(axis=0)
    factor = np.linalg.cholesky(np.cov(drawn.T).reshape(len(centre), -1))
    wanted = {int(count): at for at, count in enumerate(rows)}
    result = np.empty(len(rows))
    for count in _on_the_way(rows):
        values = density_in_pieces(target_of_first_rows(binding, axis, count))
        # Twice: the first lattice finds where the posterior has moved to.
        rough = log_integral(values, centre, factor, 0.1)
        found = log_integral(values, rough.centre, rough.factor, TOLERANCE)
        centre, factor = found.centre, found.factor
        if count in wanted:
            # What cannot be integrated to the tolerance is left open, and said.
            result[wanted[count]] = found.log_value if found.settled else np.nan
    return result


def _on_the_way(rows: np.ndarray) -> list[int]:
    """Return all numbers of rows to go through: each at most twice the one before.

    A lattice around the prior would not find a posterior of many rows.
    """
    counts, last = [], 0
    for count in map(int, rows):
        while 2 * last < count and last + 1 < count:
            last = max(2 * last, 1)
            counts.append(last)
        counts.append(count)
        last = count
    return counts


def _row_axis(name: str, binding: Binding) -> str:
    program = binding.program
    if program.log_density_terms:
        raise ModelError(f"`{name}` has terms added to the log density, so it has no evidence.")
    if program.black_boxes:
        raise ModelError(
            f"`{name}` has a function that cannot be traced, so rows cannot come in one by one."
        )
    found = row_counts(binding)
    outcomes: set[Any] = {axes for _, axes in program.outcome_axes}
    if len(found) != 1 or len(outcomes) != 1:
        raise ModelError(
            f"The rows of `{name}` are not single observations that stand for themselves, so they "
            "cannot come in one by one."
        )
    return next(iter(found))
