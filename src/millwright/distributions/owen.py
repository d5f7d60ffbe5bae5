"""Owen's T function, on which the distribution function of the skew normal rests."""

from __future__ import annotations

import math

from millwright.distributions.mathematics import Array, Mathematics
from millwright.distributions.quadrature import UNIT_NODES, UNIT_WEIGHTS

__all__ = ["owen_t"]


def owen_t(m: Mathematics, h: Array, a: Array) -> Array:
    """Return the integral of exp(-h^2 (1 + t^2) / 2) / (1 + t^2) / (2 pi) for t from 0 to a.

    Owen (1956), "Tables for computing bivariate normal probabilities", Annals of Mathematical
    Statistics 27, equation 2.1; an `a` beyond 1 is taken to its inverse (equation 2.7), so that
    a few nodes are exact to rounding.
    """
    h, size = m.abs(h), m.abs(a)
    beyond = size > 1.0
    inverse = 1.0 / m.where(beyond, a, 1.0)
    inside = _within(m, m.where(beyond, size * h, h), m.where(beyond, inverse, a))
    upper, far = m.ndtr(-h), m.ndtr(-size * h)
    corner = 0.5 * (upper + far) - upper * far
    return m.where(beyond, m.where(a < 0, -corner, corner) - inside, inside)


def _within(m: Mathematics, h: Array, a: Array) -> Array:
    """Return the same for a between -1 and 1."""
    squares = 1.0 + (a[..., None] * UNIT_NODES) ** 2
    heights = m.exp(-0.5 * h[..., None] ** 2 * squares) / squares
    return a / (2 * math.pi) * m.sum(heights * UNIT_WEIGHTS, axis=-1)
