"""Coefficients that stand beside group effects in what outcomes read.

An intercept beside group effects, or a slope beside slopes that differ by group, is known less
well than the sum of both: when it moves, every effect has to move against it. So the pull of the
map of `hierarchy` follows it: with x the companions' values and J_j the negative mixed second
derivatives of the log likelihood in theta_j and x at the pilot, b_j is b_j - J_j x, which is what
the data say of theta_j given x as far as the likelihood is quadratic.
"""

from __future__ import annotations

import numpy as np

from millwright.distributions.mathematics import Array
from millwright.distributions.processes import Process
from millwright.modelling.arguments import family_of
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import DRAW
from millwright.modelling.middles import COEFFICIENTS, middles
from millwright.modelling.program import Program
from millwright.modelling.specification import Part

__all__ = ["companion_values", "companions", "followed", "values_of"]

_MOST_VALUES = 30
"""More coefficients would make each step dearer than the chains gain."""
_MOST_PRODUCTS = 20_000


def companions(program: Program, name: str) -> tuple[str, ...]:
    """Return the coefficients that a group prior's map follows: of those placed before it.

    What would be too many values is left out, as effects of labels with a known prior may be.
    """
    part = program.by_name[name]
    if isinstance(family_of(part.family, part.arguments), Process):
        return ()
    # Middles of groups are placed after the groups before them, and no outcome reads them.
    others = {*(one for one, _ in program.forms), *middles(program)}
    most = min(_MOST_VALUES, _MOST_PRODUCTS // max(1, values_of(program, name)))
    found: list[str] = []
    for other in program.unknowns:
        if other.name == name:
            break
        coefficient = other.family in COEFFICIENTS and other.name not in others
        if coefficient and values_of(program, *found, other.name) <= most:
            found.append(other.name)
    return tuple(found)


def values_of(program: Program, *names: str) -> int:
    """Return how many values some unknowns have together."""
    shapes = (program.shape(program.by_name[name].per) for name in names)
    return sum(int(np.prod(shape, dtype=int)) for shape in shapes)


def companion_values(evaluation: Evaluation, names: tuple[str, ...]) -> Array:
    """Return the values of companions one after the other, (values,) or (draws, values)."""
    m = evaluation.m
    items = [evaluation.values[name] for name in names]
    lead = max((item.values.shape[:1] for item in items if DRAW in item.axes), default=())
    flat = [m.asarray(item.values).reshape((*_lead(item.axes, lead), -1)) for item in items]
    if lead:
        flat = [m.broadcast_to(one, (*lead, one.shape[-1])) for one in flat]
    return m.concatenate(flat, axis=-1)


def _lead(axes: tuple[str, ...], lead: tuple[int, ...]) -> tuple[int, ...]:
    if DRAW in axes:
        return lead
    return (1,) if lead else ()


def followed(evaluation: Evaluation, part: Part, pull: Array) -> Array:
    """Return the pull of a group prior where its companions are, shape as the prior's own."""
    mixed = evaluation.arguments.get(("mixed", part.name))
    if mixed is None:
        return pull
    values = companion_values(evaluation, companions(evaluation.program, part.name))
    shape = mixed.shape[:-1]
    moved = values @ mixed.reshape(-1, mixed.shape[-1]).T
    return pull - moved.reshape((*values.shape[:-1], *shape))
