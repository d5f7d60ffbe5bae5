"""Integrals over few unknowns on a stretched lattice.

The trapezoidal rule in t, for positions = centre + factor sinh(t): its error falls faster than any
power of the step for smooth densities that vanish at the ends (Trefethen and Weideman 2014, "The
exponentially convergent trapezoidal rule", SIAM Review 56). The box grows until nothing is left at
its edge, and the step is halved until the value stays.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import product

import numpy as np
from scipy.special import logsumexp

from millwright.evidence.bridge import Values

__all__ = ["Lattice", "log_integral"]

_FIRST_BOX = 3.0
_LARGEST_BOX = 9.0
_BOX_STEP = 0.75
_LEFT = 1e-13
_FIRST_STEP = {1: 0.25, 2: 0.25, 3: 0.4}
_SETTLED = {1: 1e-9, 2: 1e-8, 3: 1e-5}
_MOST_POINTS = 1_500_000


@dataclass(frozen=True)
class Lattice:
    """The logarithm of an integral by quadrature.

    Attributes
    ----------
    log_value
        The value on the finest lattice.
    change
        How far it moved at the last halving of the step.
    points
        Points of the finest lattice.
    settled
        Whether the box holds all, and halving the step changed no more than rounding.
    """

    log_value: float
    change: float
    points: int
    settled: bool


def log_integral(log_density: Values, centre: np.ndarray, factor: np.ndarray) -> Lattice:
    """Integrate a density of one to three unknowns.

    Parameters
    ----------
    centre, factor
        Where the density lies: a mean, and the Cholesky factor of a covariance, shapes
        (dimension,) and (dimension, dimension).
    """
    dimension = len(centre)
    step = _FIRST_STEP[dimension]
    box, closed = _box(log_density, centre, factor, 2 * step)
    value, points = _sum(log_density, centre, factor, box, step)
    change = np.inf
    while change > _SETTLED[dimension]:
        step /= 2
        if np.prod([2 * b / step + 1 for b in box]) > _MOST_POINTS:
            break
        finer, points = _sum(log_density, centre, factor, box, step)
        change, value = abs(finer - value), finer
    return Lattice(value, float(change), points, closed and change <= _SETTLED[dimension])


def _box(
    log_density: Values, centre: np.ndarray, factor: np.ndarray, step: float
) -> tuple[np.ndarray, bool]:
    """Return the half width of the box in each direction, and whether nothing is left outside."""
    dimension = len(centre)
    box = np.full(dimension, _FIRST_BOX)
    while True:
        axes = [np.arange(-b, b + step / 2, step) for b in box]
        terms = _terms(log_density, centre, factor, axes)
        whole = logsumexp(terms)
        open_axes = []
        for at in range(dimension):
            ends = np.take(terms, [0, -1], axis=at)
            if logsumexp(ends) - whole > np.log(_LEFT):
                open_axes.append(at)
        growing = [at for at in open_axes if box[at] < _LARGEST_BOX]
        if not growing:
            return box, not open_axes
        box[growing] += _BOX_STEP


def _sum(
    log_density: Values, centre: np.ndarray, factor: np.ndarray, box: np.ndarray, step: float
) -> tuple[float, int]:
    axes = [np.arange(-b, b + step / 2, step) for b in box]
    terms = _terms(log_density, centre, factor, axes)
    size = np.log(np.abs(np.diag(factor))).sum() + len(centre) * np.log(step)
    return float(logsumexp(terms) + size), terms.size


def _terms(
    log_density: Values, centre: np.ndarray, factor: np.ndarray, axes: list[np.ndarray]
) -> np.ndarray:
    """Return the log density times the stretch at each place of a lattice."""
    t = np.array(list(product(*axes)))
    z = np.sinh(t)
    values = log_density(centre + z @ factor.T) + np.log(np.cosh(t)).sum(axis=1)
    values = np.where(np.isnan(values), -np.inf, values)
    return np.asarray(values).reshape([len(axis) for axis in axes])
