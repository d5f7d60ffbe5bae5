"""Series in which each value rests on the one before, in coordinates that their readings inform.

A series x_t = c_t x_{t-1} + s_t u_t with normal steps, read with information I_t (the inverse
variance of its readings) and pull b_t (readings times information), is normal given all else.
Forwards its filtered information e_t and the product r_t of that with the filtered mean are

    d_t = s_t^2 e_{t-1} + c_t^2,   e_t = I_t + e_{t-1} / d_t,   r_t = b_t + c_t r_{t-1} / d_t

(Kalman 1960, in terms of information), and backwards, with standard normal eta_t,

    x_t = (s_{t+1}^2 r_t + c_{t+1} x_{t+1} + s_{t+1} sqrt(d_{t+1}) eta_t) / d_{t+1}

(Fruhwirth-Schnatter 1994, the sampling step). As a map from eta to x this is one to one for any
I >= 0 and b; where they are those of the readings, eta is standard normal whatever the steps'
and the readings' sizes are. No difference of nearly equal numbers is taken.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.mathematics import Array, Mathematics

__all__ = ["Chain", "from_informed", "to_informed"]


class Chain(NamedTuple):
    """A series around its base: `carried` of the value before, and a step of some size.

    Attributes
    ----------
    base, carried, sizes
        Each broadcasts with (..., n); the first value carries nothing.
    """

    base: Array
    carried: Array
    sizes: Array


def from_informed(
    m: Mathematics, eta: Array, chain: Chain, information: Array, pull: Array
) -> tuple[Array, Array]:
    """Return the values (..., n), and the log derivative of the map (...)."""
    below, spread, lean, carried = _smoothed(m, eta, chain, information, pull)

    def before(after: Array, now: tuple[Array, Array, Array]) -> tuple[Array, Array]:
        kept, weight, free = now
        value = (kept + weight * after) / free
        return value, value

    kept = lean + m.sqrt(spread * below) * eta
    items = tuple(m.moveaxis(part[..., ::-1], -1, 0) for part in (kept, carried, below))
    _, values = m.scan(before, 0.0 * eta[..., 0], items)
    log_slope = 0.5 * m.sum(m.log(spread) - m.log(below), axis=-1)
    return chain.base + m.moveaxis(values, 0, -1)[..., ::-1], log_slope


def to_informed(x: Array, chain: Chain, information: Array, pull: Array) -> np.ndarray:
    """Return the coordinates of values (NumPy)."""
    m = on_numpy
    rest = np.asarray(x - chain.base)
    below, spread, lean, carried = _smoothed(m, rest, chain, information, pull)
    after = np.concatenate([rest[..., 1:], 0.0 * rest[..., :1]], axis=-1)
    return np.asarray((below * rest - lean - carried * after) / np.sqrt(spread * below))


def _smoothed(
    m: Mathematics, like: Array, chain: Chain, information: Array, pull: Array
) -> tuple[Array, Array, Array, Array]:
    """Return d, s^2, s^2 r and c of the value after each; the last has none after it."""
    full = 0.0 * like
    pull = full + pull - information * chain.base
    information = full + information
    variances = full + chain.sizes**2
    first = m.arange(like.shape[-1]) < 1
    carried = m.where(first, 0.0, full + chain.carried)

    def filtered(
        before: tuple[Array, Array], now: tuple[Array, ...]
    ) -> tuple[tuple[Array, Array], tuple[Array, Array]]:
        known, told = before
        seen, pulled, variance, weight = now
        free = variance * known + weight * weight
        state = (seen + known / free, pulled + weight * told / free)
        return state, state

    items = tuple(m.moveaxis(each, -1, 0) for each in (information, pull, variances, carried))
    one = 1.0 + full[..., 0]
    _, (known, told) = m.scan(filtered, (one, 0.0 * one), items)
    known, told = m.moveaxis(known, 0, -1), m.moveaxis(told, 0, -1)
    nothing = full[..., :1]
    spread = m.concatenate([variances[..., 1:], 1.0 + nothing], axis=-1)
    after = m.concatenate([carried[..., 1:], nothing], axis=-1)
    return spread * known + after * after, spread, spread * told, after
