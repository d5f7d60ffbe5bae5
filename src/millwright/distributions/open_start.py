"""The first state of a series under a flat prior, from the readings themselves.

Given the first state, readings are normal with errors that are linear in it (de Jong 1991, "The
diffuse Kalman filter", Annals of Statistics 19, section 3): the density with the first state
integrated over all values, and the state's own distribution given all readings, are exact.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from millwright.distributions.filtering import System, filtered
from millwright.distributions.mathematics import Array, Mathematics

__all__ = ["Start", "start_of"]


_ALIKE = 1e-13
"""Square of the sine between the lines of one entry of the state and those of the others, below
which rounding could have made it."""


class Start(NamedTuple):
    """The first state given all readings, k entries, `...` copies.

    Attributes
    ----------
    log_density
        Of the readings, the first state integrated out under a density of 1, (...).
    mean
        (..., k).
    root
        Inverse of R, with R'R the precision, (..., k, k); NaN where readings leave it open.
    """

    log_density: Array
    mean: Array
    root: Array

    def draw(self, generator: np.random.Generator, draws: int) -> np.ndarray:
        """Draw first states, (draws, k) (NumPy)."""
        z = generator.standard_normal((draws, self.mean.shape[-1]))
        return np.asarray(self.mean + np.einsum("...ij,...j->...i", self.root, z))


def start_of(m: Mathematics, values: Array, read: Array, system: System) -> Start:
    """Return the first state given readings (..., n), whatever the system says of it.

    Where a reading has next to no noise its weight is larger than others' by many digits. So
    states come by orthogonal steps, never by the sums of squares, where the others would be lost.
    """
    k = system.transition.shape[-1]
    copies = len(np.broadcast_shapes(values.shape[:-1], *_copies(system)))
    lead = (k + 1, *(1,) * copies)
    # One series of the readings from 0, and one of zeros from each unit of the state.
    units = np.eye(k + 1)[:, 1:].reshape(*lead, k)
    first = np.eye(k + 1)[:, 0].reshape(*lead, 1)
    known = system._replace(mean=m.asarray(units), spread=m.zeros((k, k)))
    found = filtered(m, first * values, read, known)
    spread = m.where(found.read, m.sqrt(found.variances), m.inf)
    # Columns: each state's, then the readings'.
    errors = m.moveaxis(m.concatenate([-found.errors[:, 1:], found.errors[:, :1]], axis=1), 1, -1)
    told = _told_apart(m, m.where(found.read[..., None], errors[..., :k], 0.0))
    both = _triangle(m, errors / spread[..., None], spread)
    both = both + m.where(told, 0.0, math.nan)[..., None, None]
    diagonal = m.diagonal(both, axis1=-2, axis2=-1)
    root = m.swapaxes(m.lower_inverse(m.swapaxes(both[..., :k, :k], -1, -2)), -1, -2)
    plain = found._replace(errors=0.0).log_densities(m)
    log_density = (
        m.sum(plain, axis=0)
        - 0.5 * diagonal[..., k] ** 2
        - m.sum(m.log(m.abs(diagonal[..., :k])), axis=-1)
        + 0.5 * k * math.log(2 * math.pi)
    )
    return Start(log_density, m.einsum("...ij,...j->...i", root, both[..., :k, k]), root)


def _told_apart(m: Mathematics, lines: Array) -> Array:
    """Return whether lines (n, ..., k) of readings tell entries of the state apart, (...).

    That hangs on no weights, so squares will do.
    """
    squares = m.einsum("n...i,n...j->...ij", lines, lines)
    sizes = m.sqrt(m.diagonal(squares, axis1=-2, axis2=-1))
    sizes = m.where(sizes > 0, sizes, 1.0)
    alike = squares / (sizes[..., :, None] * sizes[..., None, :])
    apart = m.diagonal(m.cholesky(alike), axis1=-2, axis2=-1)
    # Rounding leaves NaN, zero or next to it.
    return m.logical_not(m.any(m.logical_not(apart**2 > _ALIKE), axis=-1))


def _triangle(m: Mathematics, rows: Array, spread: Array) -> Array:
    """Return the upper triangle of rows (n, ..., k + 1), those of least spread (n, ...) first."""
    missing = rows.shape[-1] - rows.shape[0]
    if missing > 0:
        empty = m.zeros((missing, *rows.shape[1:]))
        rows = m.concatenate([rows, empty], axis=0)
        spread = m.concatenate([spread, empty[..., 0] + m.inf], axis=0)
    return m.triangle(m.moveaxis(rows, 0, -2), m.moveaxis(spread, 0, -1))


def _copies(system: System) -> list[tuple[int, ...]]:
    return [
        system.transition.shape[:-2],
        system.steps.shape[:-2],
        system.loading.shape[:-2],
        system.noise.shape[:-1],
        system.moves.shape[:-1],
    ]
