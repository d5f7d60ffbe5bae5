"""Matrices on JAX: Cholesky factors of small ones, and Gaussian log densities."""

from __future__ import annotations

from collections.abc import Callable

import jax
import jax.numpy as jnp
from jax.custom_batching import sequential_vmap
from jax.numpy import (
    broadcast_to,
    concatenate,
    diagonal,
    einsum,
    log,
    pi,
    sqrt,
    stack,
    sum,
    swapaxes,
    zeros,
    zeros_like,
)
from jax.numpy.linalg import cholesky as _cholesky
from jax.scipy.linalg import solve_triangular

__all__ = ["cholesky", "gaussian_log_density", "lower_inverse", "triangle"]


def gaussian_log_density(residual: jax.Array, covariance: jax.Array) -> jax.Array:
    """Log density of normal vectors (..., n) around zero; matrices (..., n, n) broadcast.

    One derivative rule for all of them: with a = P r and P the inverse of the matrix K,
    d = (a' dK a - tr(P dK)) / 2 - a' dr. P comes from the Cholesky factor by blocks, so that
    nothing is differentiated through the factorisation (Rasmussen and Williams 2006, eq. 5.9).
    A matrix that is not positive definite gives NaN.
    """
    return _gaussian(residual, covariance)


@jax.custom_jvp
def _gaussian(residual: jax.Array, covariance: jax.Array) -> jax.Array:
    return _gaussian_parts(residual, covariance)[0]


def _gaussian_parts(residual: jax.Array, covariance: jax.Array) -> tuple[jax.Array, jax.Array]:
    """Return the log density and the inverse of the Cholesky factor."""
    if residual.ndim == 1 and covariance.ndim == 2 and covariance.shape[-1] > _SMALL:
        return _one_after_another(residual, covariance)
    return _parts_of(residual, covariance)


def _parts_of(residual: jax.Array, covariance: jax.Array) -> tuple[jax.Array, jax.Array]:
    factor = cholesky(covariance)
    inverse = lower_inverse(factor)
    z = einsum("...ij,...j->...i", inverse, residual)
    log_root = sum(log(diagonal(factor, axis1=-2, axis2=-1)), axis=-1)
    n = covariance.shape[-1]
    return -0.5 * sum(z * z, axis=-1) - log_root - 0.5 * n * log(2 * pi), inverse


# Large matrices side by side, such as 32 of 200 rows, never came back: threads of compiled code
# waited for each other.
_one_after_another: Callable[..., tuple[jax.Array, jax.Array]] = sequential_vmap(_parts_of)


@_gaussian.defjvp
def _gaussian_jvp(
    primals: tuple[jax.Array, jax.Array], tangents: tuple[jax.Array, jax.Array]
) -> tuple[jax.Array, jax.Array]:
    residual, covariance = primals
    value, inverse = _gaussian_parts(residual, covariance)
    precision = lower_product(inverse)
    a = einsum("...ij,...j->...i", precision, residual)
    by_residual = -sum(a * tangents[0], axis=-1)
    by_matrix = einsum("...i,...ij,...j->...", a, tangents[1], a)
    trace = sum(precision * tangents[1], axis=(-1, -2))
    return value, by_residual + 0.5 * (by_matrix - trace)


def lower_product(w: jax.Array) -> jax.Array:
    """W' W for lower triangular W (..., n, n), by blocks: a third of the work of the product."""
    n = w.shape[-1]
    if n <= 2 * _SMALL:
        return swapaxes(w, -1, -2) @ w
    half = n // 2
    corner, last = w[..., half:, :half], w[..., half:, half:]
    across = swapaxes(corner, -1, -2)
    first = lower_product(w[..., :half, :half]) + across @ corner
    beside = across @ last
    top = concatenate([first, beside], axis=-1)
    below = concatenate([swapaxes(beside, -1, -2), lower_product(last)], axis=-1)
    return concatenate([top, below], axis=-2)


_SMALL = 64


_TINY = 4


def cholesky(a: jax.Array) -> jax.Array:
    """Lower Cholesky factors of matrices (..., n, n); NaN where not positive definite.

    The smallest are written out entry by entry: a call of the factorisation for each of many
    groups costs more than the arithmetic.
    """
    n = a.shape[-1]
    if n > _TINY:
        return _cholesky(a, symmetrize_input=False)
    rows: list[list[jax.Array]] = []
    for i in range(n):
        row: list[jax.Array] = []
        for j in range(i + 1):
            rest = a[..., i, j]
            for k in range(j):
                rest = rest - row[k] * (rows[j][k] if j < i else row[k])
            row.append(sqrt(rest) if i == j else rest / rows[j][j])
        rows.append(row)
    return _lower(rows)


def _lower(rows: list[list[jax.Array]]) -> jax.Array:
    """Stack the rows of lower triangular matrices."""
    nothing = zeros_like(rows[0][0])
    n = len(rows)
    return stack([stack([*row, *[nothing] * (n - len(row))], axis=-1) for row in rows], axis=-2)


def _tiny_inverse(factor: jax.Array) -> jax.Array:
    n = factor.shape[-1]
    rows: list[list[jax.Array]] = []
    for i in range(n):
        pivot = 1 / factor[..., i, i]
        row = []
        for j in range(i):
            told = factor[..., i, j] * rows[j][j]
            for k in range(j + 1, i):
                told = told + factor[..., i, k] * rows[k][j]
            row.append(-pivot * told)
        rows.append([*row, pivot])
    return _lower(rows)


def triangle(rows: jax.Array, order: jax.Array) -> jax.Array:
    """Upper triangles R of matrices (..., n, k), with R'R = rows'rows.

    Rows go by `order` (..., n), ascending: where their weights differ by many digits the heaviest
    must come first, or lighter ones are lost in rounding (Cox and Higham 1998).
    """
    places = jnp.argsort(order, axis=-1)[..., None]
    return jnp.linalg.qr(jnp.take_along_axis(rows, places, axis=-2))[1]


def lower_inverse(factor: jax.Array) -> jax.Array:
    """Inverse of lower triangular matrices (..., n, n), by blocks.

    Matrix products are several times faster than triangular solves of the same work.
    """
    n = factor.shape[-1]
    if n <= _TINY:
        return _tiny_inverse(factor)
    if n <= _SMALL:
        identity = broadcast_to(jnp.eye(n), factor.shape)
        return solve_triangular(factor, identity, lower=True)
    half = n // 2
    first = lower_inverse(factor[..., :half, :half])
    last = lower_inverse(factor[..., half:, half:])
    corner = -last @ (factor[..., half:, :half] @ first)
    above = zeros((*factor.shape[:-2], half, n - half))
    top = concatenate([first, above], axis=-1)
    return concatenate([top, concatenate([corner, last], axis=-1)], axis=-2)
