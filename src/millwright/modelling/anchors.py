"""Middles of groups in coordinates that follow the spread between groups.

For theta_j ~ normal(mu, tau) the map of `hierarchy` makes the coordinates of theta free of mu and
tau, but mu itself stays: with few groups it is known well where tau is small and hardly where
tau is large, a funnel. With theta summed out of the same quadratic, what is left of mu given tau
is normal with

    Q = 1 / sd^2 + sum_j I_j / (1 + I_j tau^2),
    R = middle / sd^2 + sum_j b_j / (1 + I_j tau^2),

where middle and sd are location and scale of mu's own prior, so mu = R / Q + x / sqrt(Q). As
there, the map is one to one whatever the constants are, and the posterior exact.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

import numpy as np

from millwright.distributions.mathematics import Array
from millwright.language.tree import Name
from millwright.modelling.companions import COEFFICIENTS
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import DRAW, Labelled
from millwright.modelling.parameterisations import informed_by_constants
from millwright.modelling.program import Program
from millwright.modelling.series_readings import constants_for
from millwright.modelling.shaping import spread_arguments
from millwright.modelling.specification import Part, reaches

__all__ = ["anchor_of", "anchors", "in_order", "placed_middle", "unplaced_middle"]


@lru_cache(maxsize=64)
def anchors(program: Program) -> Mapping[str, str]:
    """Return each middle that is placed so, with the group prior whose location it is."""
    found: dict[str, str] = {}
    for name in informed_by_constants(program):
        part = program.by_name[name]
        location = dict(part.arguments).get("location")
        if part.event != "number" or not isinstance(location, Name):
            continue
        middle = program.by_name.get(location.name)
        if middle is None or middle.name in found:
            continue
        if _can_follow(program, middle, part):
            found[middle.name] = name
    return found


def _can_follow(program: Program, middle: Part, group: Part) -> bool:
    """Whether a middle may be placed after all else that the group prior rests on."""
    if middle.kind != "unknown" or middle.family not in COEFFICIENTS or middle.per:
        return False
    if {name for name, _ in middle.arguments} & {"low", "high"} or middle.rows_of:
        return False
    for other in program.unknowns:
        nodes = dict(other.arguments)
        if other.name == group.name:
            nodes.pop("location")
        if any(reaches(node, middle.name, program.by_name) for node in nodes.values()):
            return False
        if other.name == group.name:
            return True
    return False


def in_order(program: Program) -> list[Part]:
    """Return the unknowns as they are placed: a middle right before its groups."""
    following = {group: middle for middle, group in anchors(program).items()}
    result: list[Part] = []
    for part in program.unknowns:
        if part.name in anchors(program):
            continue
        if part.name in following:
            result.append(program.by_name[following[part.name]])
        result.append(part)
    return result


def anchor_of(evaluation: Evaluation, part: Part) -> tuple[Array, Array]:
    """Return R / Q and sqrt(Q) of a middle, each a scalar or of shape (draws,).

    All that its groups rest on is to be known in the evaluation, but the middle itself, which is
    not looked at.
    """
    m, program = evaluation.m, evaluation.program
    group = program.by_name[anchors(program)[part.name]]
    # What the data say of groups may follow the middle, where outcomes read it too.
    known = {**evaluation.values, part.name: Labelled(m.asarray(0.0), ())}
    again = Evaluation(m, program, evaluation.arguments, known)
    scale = again.expression(dict(group.arguments)["scale"], group)
    lead = (DRAW,) if any(DRAW in item.axes for item in known.values()) else ()
    spread = spread_arguments(m, group, {"scale": scale}, (*lead, *group.axes), program)["scale"]
    constants = constants_for(again, group)
    assert constants is not None
    information, pull = constants
    given = 1.0 + information * spread * spread
    own = spread_arguments(m, part, evaluation.parameters(part), lead, program)
    precision = 1.0 / own["scale"] ** 2
    across = tuple(range(-len(group.axes), 0))
    total = precision + m.sum(information / given, axis=across)
    leaning = own["location"] * precision + m.sum(pull / given, axis=across)
    return leaning / total, m.sqrt(total)


def placed_middle(evaluation: Evaluation, part: Part, x: Array) -> tuple[Array, Array]:
    """Return a middle at its coordinate x, and the log derivative of the map."""
    centre, root = anchor_of(evaluation, part)
    return centre + x / root, -evaluation.m.log(root) + evaluation.m.zeros_like(x)


def unplaced_middle(evaluation: Evaluation, part: Part, value: Array) -> np.ndarray:
    """Return the coordinate of a middle's value (NumPy)."""
    centre, root = anchor_of(evaluation, part)
    return np.asarray((value - centre) * root)
