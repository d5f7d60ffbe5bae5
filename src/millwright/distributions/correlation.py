"""Correlation matrices.

Lewandowski, Kurowicka and Joe (2009), "Generating random correlation matrices based on vines
and extended onion method", Journal of Multivariate Analysis 100(9): with the partial
correlations z_ij of the C-vine, the density of the matrix is that of independent
(1 + z_ij) / 2 ~ beta(b_j, b_j), b_j = shape + (K - 2 - j) / 2, j counted from 0.
"""

from __future__ import annotations

from functools import cache
from typing import ClassVar

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.family import Event, Parameter, Parameters
from millwright.distributions.mathematics import Array, Mathematics
from millwright.distributions.vector import VectorFamily

__all__ = ["Lkj"]


@cache
def _columns(size: int) -> np.ndarray:
    """Column j of each pair i > j, in the order of the free coordinates."""
    return np.array([j for i in range(size) for j in range(i)], dtype=int)


class Lkj(VectorFamily):
    """Correlation matrix with a density that goes as det(R)^(shape - 1)."""

    name = "lkj"
    summary = "correlation matrix; shape 1 is uniform, larger shapes favour weak correlations"
    event: ClassVar[Event] = "matrix"
    parameters = (Parameter("shape", "positive", "1 is uniform, above 1 favours weak ones"),)
    fewest: ClassVar[int] = 2

    def free_size(self, size: int) -> int:
        return size * (size - 1) // 2

    def from_free(self, m: Mathematics, u: Array, p: Parameters) -> tuple[Array, Array]:
        size = int((1 + np.sqrt(1 + 8 * u.shape[-1])) / 2 + 0.5)
        factor = self._factor(m, m.tanh(u), size)
        values = factor @ m.swapaxes(factor, -1, -2)
        log_slope = np.log(4.0) - 2 * m.logaddexp(u, -u)
        weights = 1 + (size - 2 - _columns(size)) / 2
        return values, m.sum(weights * log_slope, axis=-1)

    def _factor(self, m: Mathematics, z: Array, size: int) -> Array:
        """Cholesky factor of the matrix with partial correlations z (LKJ 2009, section 2.4)."""
        zero = 0.0 * z[..., 0]
        rows, at = [], 0
        for i in range(size):
            row, left = [], zero + 1.0
            for _ in range(i):
                row.append(z[..., at] * m.sqrt(left))
                left = left * (1 - z[..., at] ** 2)
                at += 1
            rows.append(m.stack([*row, m.sqrt(left), *[zero] * (size - i - 1)], axis=-1))
        return m.stack(rows, axis=-2)

    def to_free(self, x: Array, p: Parameters) -> np.ndarray:
        factor = on_numpy.cholesky(np.asarray(x, dtype=float))
        found = []
        for i in range(factor.shape[-1]):
            left = np.ones(factor.shape[:-2])
            for j in range(i):
                z = factor[..., i, j] / np.sqrt(np.maximum(left, 1e-300))
                found.append(np.arctanh(np.clip(z, -1 + 1e-15, 1 - 1e-15)))
                left = left * (1 - z * z)
        return np.stack(found, axis=-1)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        shape = m.asarray(p["shape"])
        size = x.shape[-1]
        diagonal = m.diagonal(m.cholesky(x), axis1=-2, axis2=-1)
        log_det = 2 * m.sum(m.log(diagonal), axis=-1)
        b = shape[..., None] + (size - 2 - _columns(size)) / 2
        log_constant = m.sum((2 * b - 1) * np.log(2.0) + m.betaln(b, b), axis=-1)
        return (shape - 1) * log_det - log_constant

    def contains(self, x: Array, p: Parameters) -> np.ndarray:
        x = np.asarray(x, dtype=float)
        one = np.abs(np.diagonal(x, axis1=-2, axis2=-1) - 1).max(axis=-1) < 1e-8
        same = np.abs(x - np.swapaxes(x, -1, -2)).max(axis=(-1, -2)) < 1e-8
        return one & same & np.isfinite(on_numpy.cholesky(x)).all(axis=(-1, -2))

    def contents(self) -> str:
        return "correlation matrices"

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        labels = size[-1]
        columns = _columns(labels)
        b = np.asarray(p["shape"])[..., None] + (labels - 2 - columns) / 2
        z = 2 * generator.beta(b, b, (*size[:-2], len(columns))) - 1
        factor = self._factor(on_numpy, z, labels)
        return factor @ np.swapaxes(factor, -1, -2)

    def mean(self, p: Parameters) -> Array:
        # The size is that of the label set, which the parameters do not tell.
        return np.full(np.shape(p["shape"]), np.nan)
