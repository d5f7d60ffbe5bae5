"""Integrals and inverses where no closed form exists."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from millwright.distributions.mathematics import Array

__all__ = ["TAIL_NODES", "TAIL_WEIGHTS", "UNIT_NODES", "UNIT_WEIGHTS", "bisected"]

_X, _W = np.polynomial.legendre.leggauss(64)
UNIT_NODES = (_X + 1) / 2
UNIT_WEIGHTS = _W / 2

_EDGES = np.array([0.0, 0.1, 0.6, 2.0, 5.0, 14.0])
_STEPS = np.diff(_EDGES)[:, None]
_PANEL_X, _PANEL_W = np.polynomial.legendre.leggauss(24)
TAIL_NODES = (_EDGES[:-1, None] + _STEPS * (_PANEL_X + 1) / 2).ravel()
"""Distances from a point into a tail, in standard deviations, dense near the point."""
TAIL_WEIGHTS = (_STEPS * _PANEL_W / 2).ravel()


def bisected(
    rising: Callable[[np.ndarray], Array], q: Array, low: Array, high: Array, steps: int = 80
) -> np.ndarray:
    """Return x between `low` and `high` where a rising function reaches q (NumPy)."""
    q = np.asarray(q, dtype=float)
    shape = np.broadcast_shapes(
        q.shape, np.shape(low), np.shape(high), np.shape(rising(np.asarray(low, dtype=float)))
    )
    below, above = (np.array(np.broadcast_to(end, shape), dtype=float) for end in (low, high))
    for _ in range(steps):
        middle = (below + above) / 2
        enough = rising(middle) >= q
        above = np.where(enough, middle, above)
        below = np.where(enough, below, middle)
    return above
