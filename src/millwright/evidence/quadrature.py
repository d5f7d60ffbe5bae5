"""Integrals over few unknowns on a stretched lattice.

The trapezoidal rule in t, for positions = centre + factor sinh(t): its error falls faster than any
power of the step for smooth densities that vanish at the ends (Trefethen and Weideman 2014, "The
exponentially convergent trapezoidal rule", SIAM Review 56). The box grows until nothing is left at
its edge, and the step is halved until the value stays.
"""

from __future__ import annotations

from dataclasses import dataclass, field
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
        Whether the box holds all, and halving the step changed no more than the tolerance.
    positions, weights
        Places of the finest lattice, shape (points, dimension), and their shares of the integral.
    """

    log_value: float
    change: float
    points: int
    settled: bool
    positions: np.ndarray = field(repr=False)
    weights: np.ndarray = field(repr=False)

    @property
    def centre(self) -> np.ndarray:
        """Mean, shape (dimension,)."""
        return np.asarray(self.weights @ self.positions)

    @property
    def factor(self) -> np.ndarray:
        """Cholesky factor of the covariance, shape (dimension, dimension)."""
        away = self.positions - self.centre
        covariance = (self.weights[:, None] * away).T @ away
        # Where one place holds nearly all, the matrix is 0 to rounding.
        least = 1e-12 * (np.diag(covariance) + np.square(self.centre)) + 1e-300
        return np.asarray(np.linalg.cholesky(covariance + np.diag(least)))


def log_integral(
    log_density: Values,
    centre: np.ndarray,
    factor: np.ndarray,
    tolerance: float | None = None,
) -> Lattice:
    """Integrate a density of one to three unknowns.

    Parameters
    ----------
    centre, factor
        Where the density lies: a mean, and the Cholesky factor of a covariance, shapes
        (dimension,) and (dimension, dimension).
    tolerance
        Change at a halving of the step at which it is enough; by default 1e-9 to 1e-5, by
        dimension.
    """
    dimension = len(centre)
    enough = _SETTLED[dimension] if tolerance is None else tolerance
    step = _FIRST_STEP[dimension]
    left = _LEFT if tolerance is None else 1e-3 * tolerance
    box, closed = _box(log_density, centre, factor, 2 * step, left)
    value, positions, terms = _sum(log_density, centre, factor, box, step)
    change = np.inf
    while change > enough:
        step /= 2
        if np.prod([2 * b / step + 1 for b in box]) > _MOST_POINTS:
            break
        finer, positions, terms = _sum(log_density, centre, factor, box, step)
        change, value = abs(finer - value), finer
    weights = np.exp(terms - logsumexp(terms))
    return Lattice(
        value, float(change), terms.size, closed and change <= enough, positions, weights
    )


def _box(
    log_density: Values, centre: np.ndarray, factor: np.ndarray, step: float, left: float
) -> tuple[np.ndarray, bool]:
    """Return the half width of the box in each direction, and whether nothing is left outside.

    Nothing: a share of at most `left` at each edge.
    """
    dimension = len(centre)
    box = np.full(dimension, _FIRST_BOX)
    while True:
        axes = [np.arange(-b, b + step / 2, step) for b in box]
        terms = _terms(log_density, centre, factor, axes)[1]
        terms = terms.reshape([len(axis) for axis in axes])
        whole = logsumexp(terms)
        open_axes = []
        for at in range(dimension):
            ends = np.take(terms, [0, -1], axis=at)
            if logsumexp(ends) - whole > np.log(left):
                open_axes.append(at)
        growing = [at for at in open_axes if box[at] < _LARGEST_BOX]
        if not growing:
            return box, not open_axes
        box[growing] += _BOX_STEP


def _sum(
    log_density: Values, centre: np.ndarray, factor: np.ndarray, box: np.ndarray, step: float
) -> tuple[float, np.ndarray, np.ndarray]:
    """Return the log integral, the places of the lattice and their terms."""
    axes = [np.arange(-b, b + step / 2, step) for b in box]
    positions, terms = _terms(log_density, centre, factor, axes)
    size = np.log(np.abs(np.diag(factor))).sum() + len(centre) * np.log(step)
    return float(logsumexp(terms) + size), positions, terms


def _terms(
    log_density: Values, centre: np.ndarray, factor: np.ndarray, axes: list[np.ndarray]
) -> tuple[np.ndarray, np.ndarray]:
    """Return the places of a lattice, and log density times the stretch at each."""
    t = np.array(list(product(*axes)))
    z = np.sinh(t)
    positions = centre + z @ factor.T
    values = log_density(positions) + np.log(np.cosh(t)).sum(axis=1)
    return positions, np.where(np.isnan(values), -np.inf, values)
