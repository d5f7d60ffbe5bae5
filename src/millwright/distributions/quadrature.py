"""Integrals and inverses where no closed form exists."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from millwright.distributions.mathematics import Array

__all__ = [
    "AT_ONCE",
    "TAIL_NODES",
    "TAIL_WEIGHTS",
    "UNIT_NODES",
    "UNIT_WEIGHTS",
    "bisected",
    "reached",
]

_X, _W = np.polynomial.legendre.leggauss(64)
UNIT_NODES = (_X + 1) / 2
UNIT_WEIGHTS = _W / 2

_EDGES = np.array([0.0, 0.1, 0.6, 2.0, 5.0, 14.0])
_STEPS = np.diff(_EDGES)[:, None]
_PANEL_X, _PANEL_W = np.polynomial.legendre.leggauss(24)
TAIL_NODES = (_EDGES[:-1, None] + _STEPS * (_PANEL_X + 1) / 2).ravel()
"""Distances from a point into a tail, in standard deviations, dense near the point."""
TAIL_WEIGHTS = (_STEPS * _PANEL_W / 2).ravel()


AT_ONCE = 20_000
"""Numbers worked out together, each of which may take 64 nodes."""


def reached(
    rising: Callable[..., Array], q: Array, low: Array, high: Array, *arguments: Array
) -> np.ndarray:
    """Return x between `low` and `high` where a smooth rising function reaches q (NumPy).

    Chandrupatla (1997), "A new hybrid quadratic/bisection algorithm", Advances in Engineering
    Software 28, as SciPy has it.

    Parameters
    ----------
    rising
        Function of x and the `arguments`, which it gets for the numbers not found yet.
    q, low, high, arguments
        Of one shape after broadcasting; `low` or `high` where q is beyond the function there.
    """
    # Loaded where it is needed: it would take a quarter of a second of every start.
    from scipy.optimize import elementwise

    every = np.broadcast_arrays(
        *(np.asarray(one, dtype=float) for one in (q, low, high, *arguments))
    )
    q, low, high, *rest = (one.ravel() for one in every)
    found = np.empty(q.shape)

    def gap(x: np.ndarray, q: np.ndarray, *arguments: np.ndarray) -> Array:
        return rising(x, *arguments) - q

    for start in range(0, q.size, AT_ONCE):
        some = slice(start, start + AT_ONCE)
        ends, at = (low[some], high[some]), [q[some], *(one[some] for one in rest)]
        root = elementwise.find_root(gap, ends, args=tuple(at))
        beyond = np.where(gap(ends[0], *at) > 0, *ends)
        found[some] = np.where(root.success, root.x, beyond)
    return found.reshape(every[0].shape)


def bisected(
    rising: Callable[[np.ndarray], Array], q: Array, low: Array, high: Array, steps: int = 80
) -> np.ndarray:
    """Return x between `low` and `high` where a rising function, which may jump, reaches q."""
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
