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

import numpy as np

from millwright.distributions.mathematics import Array
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import DRAW
from millwright.modelling.middles import middles
from millwright.modelling.series_readings import constants_for
from millwright.modelling.shaping import spread_arguments
from millwright.modelling.specification import Part

__all__ = ["anchor_of", "placed_middle", "unplaced_middle"]


def anchor_of(evaluation: Evaluation, part: Part) -> tuple[Array, Array]:
    """Return R / Q and sqrt(Q) of a middle, each a scalar or of shape (draws,).

    All that its groups rest on is to be known in the evaluation, but the middle itself.
    """
    m, program = evaluation.m, evaluation.program
    group = program.by_name[middles(program)[part.name]]
    scale = evaluation.expression(dict(group.arguments)["scale"], group)
    lead = (DRAW,) if any(DRAW in item.axes for item in evaluation.values.values()) else ()
    spread = spread_arguments(m, group, {"scale": scale}, (*lead, *group.axes), program)["scale"]
    constants = constants_for(evaluation, group)
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
