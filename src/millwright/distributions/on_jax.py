"""The functions of `Mathematics` from JAX, in double precision.

Importing this module switches JAX to double precision for the whole process: posteriors in
single precision are wrong in ways that no diagnostic shows.
"""

from __future__ import annotations

import jax
import jax.numpy as jnp
import numpy as np
from jax.numpy import (
    abs,
    arange,
    arctan,
    arctan2,
    asarray,
    broadcast_to,
    concatenate,
    cos,
    cumsum,
    diagonal,
    einsum,
    exp,
    expm1,
    floor,
    inf,
    isfinite,
    log,
    log1p,
    log10,
    logaddexp,
    logical_and,
    logical_not,
    logical_or,
    max,
    maximum,
    mean,
    minimum,
    pi,
    sin,
    sqrt,
    stack,
    sum,
    swapaxes,
    tan,
    tanh,
    where,
    zeros,
    zeros_like,
)
from jax.numpy.linalg import cholesky
from jax.scipy.linalg import solve_triangular
from jax.scipy.special import betainc as _betainc
from jax.scipy.special import (
    digamma,
    erf,
    expit,
    gammainc,
    gammaincc,
    gammaln,
    log_ndtr,
    logit,
    ndtr,
    xlog1py,
    xlogy,
)

jax.config.update("jax_enable_x64", True)

__all__ = [
    "abs",
    "arange",
    "arctan",
    "arctan2",
    "asarray",
    "betainc",
    "betaln",
    "broadcast_to",
    "cholesky",
    "concatenate",
    "cos",
    "cumsum",
    "diagonal",
    "einsum",
    "erf",
    "exp",
    "expit",
    "expm1",
    "floor",
    "gammainc",
    "gammaincc",
    "gammaln",
    "gaussian_log_density",
    "inf",
    "isfinite",
    "log",
    "log10",
    "log1p",
    "log_ndtr",
    "logaddexp",
    "logical_and",
    "logical_not",
    "logical_or",
    "logit",
    "max",
    "maximum",
    "mean",
    "minimum",
    "ndtr",
    "pi",
    "sin",
    "sqrt",
    "stack",
    "sum",
    "swapaxes",
    "tan",
    "tanh",
    "where",
    "xlog1py",
    "xlogy",
    "zeros",
    "zeros_like",
]

_NODES, _WEIGHTS = np.polynomial.legendre.leggauss(48)


def betaln(a: jax.Array, b: jax.Array) -> jax.Array:
    """Logarithm of the beta function.

    JAX's own is off by up to 1e-6 around b = 8. Here the difference of two log gamma functions
    of large arguments comes from Stirling's series, so that it does not cancel.
    """
    small, large = minimum(a, b), maximum(a, b)
    total = small + large
    big = large > 500.0
    safe = where(big, large, 500.0)
    safe_total = safe + small
    series = (
        -small * log(safe_total)
        - (safe - 0.5) * log1p(small / safe)
        + small
        + (1 / safe - 1 / safe_total) / 12
        - (1 / safe**3 - 1 / safe_total**3) / 360
    )
    plain = where(big, 1.0, large)
    difference = gammaln(plain) - gammaln(where(big, 1.0, total))
    return gammaln(small) + where(big, series, difference)


@jax.custom_jvp
def betainc(a: jax.Array, b: jax.Array, x: jax.Array) -> jax.Array:
    """Regularised incomplete beta function, differentiable in all three arguments.

    JAX gives no derivative in `a` and `b`; here they come from the integral of the score,
    d/da I_x(a, b) = integral over [0, x] of (log t - psi(a) + psi(a + b)) f(t) dt.
    """
    return _betainc(a, b, x)


@betainc.defjvp
def _betainc_jvp(
    primals: tuple[jax.Array, ...], tangents: tuple[jax.Array, ...]
) -> tuple[jax.Array, jax.Array]:
    a, b, x = primals
    value = _betainc(a, b, x)
    inside = (x > 0) & (x < 1)
    safe = jnp.where(inside, x, 0.5)
    density = jnp.exp((a - 1) * log(safe) + (b - 1) * log1p(-safe) - betaln(a, b))
    in_x = jnp.where(inside, density, 0.0)
    from_left = _left_scores(a, b, safe)
    # The scores integrate to zero over [0, 1], so the shorter side serves for either tail.
    from_right = _left_scores(b, a, 1 - safe)
    left = safe < a / (a + b)
    in_a = jnp.where(inside, jnp.where(left, from_left[0], -from_right[1]), 0.0)
    in_b = jnp.where(inside, jnp.where(left, from_left[1], -from_right[0]), 0.0)
    return value, in_a * tangents[0] + in_b * tangents[1] + in_x * tangents[2]


def _left_scores(a: jax.Array, b: jax.Array, x: jax.Array) -> tuple[jax.Array, jax.Array]:
    """Integrals over [0, x] of the scores in `a` and `b` times the beta density.

    With t = x u^p and p = 6 / min(a, 1), the integrand is smooth at zero for any a.
    """
    p = 6.0 / minimum(a, 1.0)[..., None]
    u = (jnp.asarray(_NODES) + 1) / 2
    weights = jnp.asarray(_WEIGHTS) / 2
    log_t = log(x)[..., None] + p * log(u)
    t = exp(log_t)
    a_, b_ = a[..., None], b[..., None]
    log_density = a_ * log_t + (b_ - 1) * log1p(-t) - betaln(a_, b_)
    mass = exp(log_density) * p / u * weights
    score_a = log_t - digamma(a_) + digamma(a_ + b_)
    score_b = log1p(-t) - digamma(b_) + digamma(a_ + b_)
    return sum(mass * score_a, axis=-1), sum(mass * score_b, axis=-1)


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
    factor = cholesky(covariance, symmetrize_input=False)
    inverse = lower_inverse(factor)
    z = einsum("...ij,...j->...i", inverse, residual)
    log_root = sum(log(diagonal(factor, axis1=-2, axis2=-1)), axis=-1)
    n = covariance.shape[-1]
    return -0.5 * sum(z * z, axis=-1) - log_root - 0.5 * n * log(2 * pi), inverse


@_gaussian.defjvp
def _gaussian_jvp(
    primals: tuple[jax.Array, jax.Array], tangents: tuple[jax.Array, jax.Array]
) -> tuple[jax.Array, jax.Array]:
    residual, covariance = primals
    value, inverse = _gaussian_parts(residual, covariance)
    precision = swapaxes(inverse, -1, -2) @ inverse
    a = einsum("...ij,...j->...i", precision, residual)
    by_residual = -sum(a * tangents[0], axis=-1)
    by_matrix = einsum("...i,...ij,...j->...", a, tangents[1], a)
    trace = sum(precision * tangents[1], axis=(-1, -2))
    return value, by_residual + 0.5 * (by_matrix - trace)


_SMALL = 64


def lower_inverse(factor: jax.Array) -> jax.Array:
    """Inverse of lower triangular matrices (..., n, n), by blocks.

    Matrix products are several times faster than triangular solves of the same work.
    """
    n = factor.shape[-1]
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
