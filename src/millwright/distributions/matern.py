"""Matern processes along one axis as states that move from place to place.

A process with the kernel `matern32` or `matern52` and its slope, or slope and curvature, at one
place say all that earlier places say of later ones (Hartikainen and Saerkkae 2010, "Kalman
filtering and smoothing solutions to temporal Gaussian process regression models"). So the density
of readings with independent noise takes time linear in their number, and is the same.

States are the function, its slope over the rate, and its curvature over the rate squared, where
the rate is sqrt(3) / length or sqrt(5) / length.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from millwright.distributions.mathematics import Array, Mathematics

__all__ = ["MATERN", "Along", "moves", "rate", "spread_of"]

MATERN = ("matern32", "matern52")
_ROOTS = {"matern32": math.sqrt(3), "matern52": math.sqrt(5)}
_SPREADS = {
    "matern32": np.eye(2),
    "matern52": np.array([[1.0, 0.0, -1 / 3], [0.0, 1 / 3, 0.0], [-1 / 3, 0.0, 1.0]]),
}


class Along(NamedTuple):
    """A process along one column.

    Attributes
    ----------
    kernel
        `matern32` or `matern52`.
    x, location, noise
        Place, mean and sd of the error of each row, (..., rows).
    height, length
        Sd and length of the process, (...); their signs do not count.
    """

    kernel: str
    x: Array
    location: Array
    noise: Array
    height: Array
    length: Array


def rate(kernel: str, length: Array) -> Array:
    """Return how fast the kernel falls with the distance."""
    return _ROOTS[kernel] / length


def spread_of(kernel: str) -> np.ndarray:
    """Return the covariance of a state of height 1 anywhere, (k, k)."""
    return _SPREADS[kernel]


def moves(m: Mathematics, kernel: str, far: Array) -> tuple[Array, Array]:
    """Return how a state of height 1 moves on.

    Parameters
    ----------
    far
        Distances to the next place times the rate, shape (...).

    Returns
    -------
    The transition and the covariance of the step, (..., k, k) each.
    """
    u = m.asarray(far)
    if kernel == "matern32":
        rows = [[1 + u, u], [-u, 1 - u]]
    else:
        half = 0.5 * u**2
        rows = [
            [1 + u + half, u + u**2, half],
            [-half, 1 + u - u**2, u - half],
            [half - u, u**2 - 3 * u, 1 - 2 * u + half],
        ]
    entries = m.stack([m.stack(row, axis=-1) for row in rows], axis=-2)
    transition = m.exp(-u)[..., None, None] * entries
    spread = m.asarray(_SPREADS[kernel])
    return transition, spread - transition @ spread @ m.swapaxes(transition, -1, -2)
