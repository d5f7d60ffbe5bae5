"""What normal readings say of each value of a series, given all other unknowns.

Where each row is normal around a location a_i x_j + o_i, with x_j the one value of the series
that it reads, its readings say I_j = sum of a_i^2 / s_i^2 about x_j, with the pull b_j = sum of
a_i (y_i - o_i) / s_i^2, exactly, whatever x is: a_i, o_i and s_i rest on other unknowns alone.

The densities of steps and of readings take differences of values: where either are less than
rounding lets these show, they would vanish, and a peak appear that is not there. So the density
is 0 where steps or errors are less than 1e-14 of a value.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from millwright.distributions.mathematics import Array, Mathematics
from millwright.distributions.processes import ChainProcess
from millwright.modelling.arguments import family_of
from millwright.modelling.companions import followed
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.hierarchy import Constants, constants_of
from millwright.modelling.labelled import DRAW, Labelled, spread_over
from millwright.modelling.parameterisations import informed_by_readings
from millwright.modelling.plain_readings import labels_of, outcomes_of
from millwright.modelling.program import COUNTS, WEIGHTS, Arguments, Program
from millwright.modelling.specification import Part

__all__ = ["constants_for", "lost_in_rounding", "readings_of"]

_EXACT = 1e-14


def constants_for(evaluation: Evaluation, part: Part) -> Constants:
    """Return information and pull of a group prior; None if its form has none."""
    if informed_by_readings(evaluation.program, part):
        return readings_of(evaluation, part)
    found = constants_of(evaluation.program, evaluation.arguments, part.name)
    if found is None:
        return None
    information, pull = found
    return information, followed(evaluation, part, pull)


def lost_in_rounding(
    m: Mathematics, part: Part, x: Array, p: Mapping[str, Array], information: Array
) -> Array:
    """Whether steps or errors are too small to show beside values x, one truth for each series."""
    family = family_of(part.family, part.arguments)
    least = (_EXACT * x) ** 2
    small = information * least >= 1.0
    if isinstance(family, ChainProcess):
        small = small | (family.chain(m, x.shape[-1], p).sizes ** 2 < least)
    return m.max(m.where(small, 1.0, 0.0), axis=-1) > 0.0


def readings_of(evaluation: Evaluation, part: Part) -> tuple[Array, Array]:
    """Return information and pull of a series, shape (label sets...), draws in front if any.

    Parameters
    ----------
    evaluation
        Knows all other unknowns that its readings rest on.
    """
    m, program = evaluation.m, evaluation.program
    shape = program.shape(part.per)
    information, pull = m.zeros(shape), m.zeros(shape)
    others = {
        one.name: evaluation.values[one.name]
        for one in program.unknowns
        if one.name in evaluation.values and one.name != part.name
    }
    for outcome in outcomes_of(program, part.name):
        weights, told, at = _of_rows(evaluation, part, outcome, others)
        size = int(np.prod(shape))
        found = (m.totals_at(each, at, size) for each in (weights, told))
        known, pulled = (each.reshape((*each.shape[:-1], *shape)) for each in found)
        information, pull = information + known, pull + pulled
    return information, pull


def _of_rows(
    evaluation: Evaluation, part: Part, outcome: Part, others: Mapping[str, Labelled]
) -> tuple[Array, Array, np.ndarray]:
    """Return information and pull of each row of an outcome, and which value it reads."""
    m, program, arguments = evaluation.m, evaluation.program, evaluation.arguments
    axes = dict(program.outcome_axes)[outcome.name]
    given = dict(outcome.arguments)

    def located(value: float) -> Labelled:
        series = Labelled(m.zeros(program.shape(part.per)) + value, part.per)
        known = {**others, part.name: series}
        return Evaluation(m, program, arguments, known).expression(given["location"], outcome)

    scale = Evaluation(m, program, arguments, others).expression(given["scale"], outcome)
    items = [located(0.0), located(1.0), scale]
    over = ((DRAW,) if any(DRAW in item.axes for item in items) else ()) + axes
    offset, moved, size = (spread_over(item, over) for item in items)
    slope = moved - offset
    weight = _counts(evaluation, outcome, axes[0]) / (size * size)
    rows = m.zeros(program.shape(axes))
    information = rows + slope * slope * weight
    pull = rows + slope * (arguments["observed", outcome.name] - offset) * weight
    return information, pull, _places(program, arguments, part, outcome)


def _counts(evaluation: Evaluation, outcome: Part, axis: str) -> Array:
    """Return how often each row counts."""
    program, arguments = evaluation.program, evaluation.arguments
    counts = arguments[COUNTS, axis] if axis in program.counted else 1.0
    return (
        counts * arguments[WEIGHTS, outcome.name] if outcome.name in program.weighted else counts
    )


def _places(program: Program, arguments: Arguments, part: Part, outcome: Part) -> Array:
    """Return which value of the series each row reads, of all label sets one after the other."""
    labels = labels_of(program, outcome, part.name)
    at: Array = 0
    for label, axis in zip(labels, part.per, strict=True):
        at = at * program.size_of[axis] + arguments["codes", label, axis]
    return at
