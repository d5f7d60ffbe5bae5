"""Random draws of unknowns and outcomes, from the prior or at stated values."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from millwright.checks import check_mapping
from millwright.cores import one_thread
from millwright.distributions import on_numpy
from millwright.errors import ArgumentError, nearest
from millwright.modelling.anchors import unplaced_middle
from millwright.modelling.arguments import family_of
from millwright.modelling.binding import Binding
from millwright.modelling.drawn_columns import (
    in_order_of_use,
    outcomes_read,
    read_from_draws,
    resting_on,
)
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.hierarchy import unplace_group
from millwright.modelling.labelled import DRAW, Labelled, spread_over
from millwright.modelling.middles import middles
from millwright.modelling.series_readings import constants_for
from millwright.modelling.shaping import split_axes, spread_arguments
from millwright.modelling.space import free_of, places
from millwright.modelling.specification import Part

__all__ = [
    "draw_data",
    "draw_outcomes",
    "draw_part",
    "draw_unknowns",
    "positions_from",
    "stated_values",
]


def stated_values(
    binding: Binding, given: Mapping[str, Any], what: str = "given"
) -> dict[str, Labelled]:
    """Return fixed unknowns as labelled values without an axis of draws.

    A quantity with labels takes one number for all labels, or a mapping from label to number.

    Raises
    ------
    ArgumentError
        For a name that is not an unknown, or values that do not fit its labels.
    """
    known = [part.name for part in binding.program.unknowns]
    result: dict[str, Labelled] = {}
    for name, value in check_mapping(what, given).items():
        if name not in known:
            raise ArgumentError(
                f"`{what}` names `{name}`, which is not an unknown of the model."
                f"{nearest(str(name), known)} Unknowns: {', '.join(known)}."
            )
        axes = binding.axes[name]
        result[name] = Labelled(_stated(binding, name, value, axes, what), axes)
    return result


def _stated(
    binding: Binding, name: str, value: Any, axes: tuple[str, ...], what: str
) -> np.ndarray:
    shape = binding.program.shape(axes)
    if isinstance(value, Mapping):
        labels = binding.labels[axes[0]] if len(axes) == 1 else ()
        # In sheets and in the shell all labels are texts.
        texts = {str(label): one for label, one in value.items()}
        if texts.keys() != set(map(str, labels)):
            raise ArgumentError(
                f"`{what}`: `{name}` needs a value for each of its labels {list(labels)}."
            )
        value = [texts[str(label)] for label in labels]
    try:
        array = np.array(np.broadcast_to(np.asarray(value, dtype=float), shape))
    except (TypeError, ValueError) as error:
        needed = f"have shape {shape}" if shape else "be a single number"
        raise ArgumentError(f"`{what}`: the value of `{name}` must {needed}.") from error
    if not np.isfinite(array).all():
        raise ArgumentError(f"`{what}`: the value of `{name}` is not finite.")
    return array


def draw_unknowns(
    binding: Binding,
    draws: int,
    generator: np.random.Generator,
    given: Mapping[str, Labelled] | None = None,
) -> Evaluation:
    """Draw all unknowns from the prior.

    Returns
    -------
    An evaluation in which each unknown has a leading axis of `draws` draws.
    """
    known = _held(draws, given)
    evaluation = binding.evaluation(known)
    with np.errstate(all="ignore"):
        for part in binding.program.unknowns:
            if part.name not in known:
                evaluation.values[part.name] = draw_part(
                    part, part.axes, draws, generator, evaluation
                )
    return evaluation


@one_thread
def draw_data(
    binding: Binding,
    draws: int,
    generator: np.random.Generator,
    given: Mapping[str, Labelled] | None = None,
) -> tuple[Evaluation, dict[str, np.ndarray]]:
    """Draw unknowns from the prior, and a whole data set for each draw; outcomes (draws, rows).

    An outcome that another one reads is drawn first, and the other from what was drawn.
    """
    read = outcomes_read(binding.specification)
    if not read:
        evaluation = draw_unknowns(binding, draws, generator, given)
        return evaluation, draw_outcomes(binding, draws, generator, evaluation)
    evaluation = binding.evaluation(_held(draws, given))
    axes, found = dict(binding.program.outcome_axes), {}
    with np.errstate(all="ignore"):
        for part in in_order_of_use(binding.specification, binding.program):
            over = axes[part.name] if part.kind == "outcome" else part.axes
            if part.name in evaluation.values:
                continue
            drawn = draw_part(part, over, draws, generator, evaluation)
            if part.kind == "unknown":
                evaluation.values[part.name] = drawn
                continue
            found[part.name] = drawn.values
            if part.name in read:
                evaluation.drawn[part.name] = drawn
                read_from_draws(evaluation, binding.specification, part.name)
        for name in resting_on(binding.program, evaluation.drawn):
            evaluation.get(name)
    return evaluation, {part.name: found[part.name] for part in binding.program.outcomes}


def _held(draws: int, given: Mapping[str, Labelled] | None) -> dict[str, Labelled]:
    """Return stated values, once for each draw."""
    return {
        name: Labelled(np.broadcast_to(v.values, (draws, *np.shape(v.values))), (DRAW, *v.axes))
        for name, v in (given or {}).items()
    }


@one_thread
def draw_outcomes(
    binding: Binding,
    draws: int,
    generator: np.random.Generator,
    evaluation: Evaluation,
    leave_out: tuple[str, ...] = (),
) -> dict[str, np.ndarray]:
    """Draw each outcome once for each draw of the unknowns; shape (draws, rows)."""
    axes = dict(binding.program.outcome_axes)
    with np.errstate(all="ignore"):
        return {
            part.name: draw_part(part, axes[part.name], draws, generator, evaluation).values
            for part in binding.program.outcomes
            if part.name not in leave_out
        }


def draw_part(
    part: Part,
    axes: tuple[str, ...],
    draws: int,
    generator: np.random.Generator,
    evaluation: Evaluation,
) -> Labelled:
    """Draw an unknown or an outcome from its distribution, once for each draw of the others."""
    size = (draws, *evaluation.program.shape(axes))
    named = evaluation.parameters(part)
    given = spread_arguments(on_numpy, part, named, (DRAW, *axes), evaluation.program)
    family = family_of(part.family, part.arguments)
    good, sane = _sane(part, {name: np.asarray(v, dtype=float) for name, v in given.items()})
    values = np.asarray(family.draw(generator, size, sane), dtype=float)
    events = values.ndim - len(split_axes(part.event, (DRAW, *axes))[0])
    good = np.reshape(good, np.shape(good) + (1,) * events) if np.ndim(good) else good
    return Labelled(np.where(good, values, np.nan), (DRAW, *axes))


def _sane(part: Part, spread: dict[str, np.ndarray]) -> tuple[Any, dict[str, np.ndarray]]:
    """Replace arguments outside their domain, so that NumPy's generators take the rest.

    A prior can allow senseless arguments (a negative scale); those draws become NaN.
    """
    family = family_of(part.family, part.arguments)
    good: Any = np.asarray(True)
    result = dict(spread)
    for parameter in family.parameters:
        if parameter.name in spread:
            valid = parameter.valid(spread[parameter.name])
            # A vector is of use as a whole or not at all.
            over = tuple(range(-parameter.rank - parameter.by_entry, 0))
            good = good & (valid.all(axis=over) if over else valid)
            safe = 0.5 if parameter.domain == "probability" else 1.0
            result[parameter.name] = np.where(valid, spread[parameter.name], safe)
    return good, result


def positions_from(binding: Binding, evaluation: Evaluation) -> np.ndarray:
    """Return drawn unknowns in unconstrained coordinates, shape (draws, dimension).

    Draws of a very wide prior may have none, and are not finite.
    """
    pieces = []
    program = binding.program
    for part, place in zip(binding.program.unknowns, places(binding.program), strict=True):
        item = evaluation.values[part.name]
        axes = (DRAW, *part.axes)
        named = spread_arguments(on_numpy, part, evaluation.parameters(part), axes, program)
        values = spread_over(item, axes)
        if part.name in binding.program.mapped:
            constants = constants_for(evaluation, part)
            with np.errstate(over="ignore", invalid="ignore"):
                u = unplace_group(part, values, named, constants)
        elif part.name in middles(binding.program):
            u = unplaced_middle(evaluation, part, values)
        else:
            u = free_of(part, values, named)
        pieces.append(u.reshape(len(u), place.size))
    return np.concatenate(pieces, axis=1)
