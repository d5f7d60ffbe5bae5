"""The log density of a normal outcome whose rows are gathered, as `cross_products` does it."""

from __future__ import annotations

import math
from collections.abc import Sequence

from millwright.distributions.mathematics import Array, Mathematics
from millwright.language.tree import Node
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import DRAW, Labelled, spread_over
from millwright.modelling.specification import Part

__all__ = ["normal_total"]

_SMALL = 32


def normal_total(
    evaluation: Evaluation, part: Part, weights: Sequence[Node], factor: Array, rows: Array
) -> Array:
    """Return the log density of all rows of a normal outcome, one for each draw if any."""
    m = evaluation.m
    items = [evaluation.expression(node, part) for node in weights]
    scale = evaluation.expression(dict(part.arguments)["scale"], part)
    ends = _side_by_side(m, [*items, Labelled(-1.0)])
    if len(factor) <= _SMALL:
        # Calling a matrix product costs more than so few numbers.
        rest = m.sum(factor * ends[..., None, :], axis=-1)
    else:
        rest = m.einsum("...j,ij->...i", ends, factor)
    square = m.sum(rest * rest, axis=-1)
    spread = m.asarray(scale.values)
    half = 0.5 * square / (spread * spread)
    return -half - rows * (m.log(spread) + 0.5 * math.log(2 * math.pi))


def _side_by_side(m: Mathematics, items: Sequence[Labelled]) -> Array:
    """Return values one after the other on the last axis, behind the axis of draws."""
    lead = next((item.values.shape[:1] for item in items if DRAW in item.axes), ())
    axes = (DRAW,) if lead else ()
    flat = []
    for item in items:
        values = m.asarray(spread_over(item, (*axes, *item.labels)))
        front = values.shape[: len(lead)]
        size = math.prod(values.shape[len(lead) :])
        flat.append(m.broadcast_to(values.reshape((*front, size)), (*lead, size)))
    return m.concatenate(flat, axis=-1)
