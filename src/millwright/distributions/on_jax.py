"""The functions of `Mathematics` from JAX, in double precision.

Importing this module switches JAX to double precision for the whole process: posteriors in
single precision are wrong in ways that no diagnostic shows.
"""

from __future__ import annotations

import functools
import sys
from typing import Any

import jax
import jax.numpy as jnp
import numpy as np
from jax.custom_derivatives import SymbolicZero
from jax.lax import scan
from jax.numpy import (
    abs,
    any,
    arange,
    arctan,
    arctan2,
    asarray,
    broadcast_arrays,
    broadcast_to,
    concatenate,
    cos,
    cumsum,
    diagonal,
    einsum,
    exp,
    expm1,
    eye,
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
    moveaxis,
    ones_like,
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
from jax.numpy.linalg import cholesky as _cholesky
from jax.scipy.linalg import solve_triangular
from jax.scipy.special import betainc as _betainc
from jax.scipy.special import (
    digamma,
    erf,
    expit,
    gammainc,
    gammaincc,
    gammaln,
    i0e,
    log_ndtr,
    logit,
    logsumexp,
    ndtr,
    xlog1py,
    xlogy,
)

from millwright.distributions import saddle_point, tails

__all__ = [
    "abs",
    "any",
    "arange",
    "arctan",
    "arctan2",
    "asarray",
    "betainc",
    "betaln",
    "broadcast_arrays",
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
    "filled",
    "floor",
    "gammainc",
    "gammaincc",
    "gammaln",
    "i0e",
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
    "logsumexp",
    "max",
    "maximum",
    "ones_like",
    "log_betainc",
    "log_binomial",
    "log_gammainc",
    "log_gammaincc",
    "log_negative_binomial",
    "log_poisson",
    "lower_inverse",
    "mean",
    "minimum",
    "moveaxis",
    "eye",
    "ndtr",
    "pi",
    "replaced",
    "scan",
    "sin",
    "sqrt",
    "stack",
    "sum",
    "swapaxes",
    "tan",
    "tanh",
    "until",
    "where",
    "xlog1py",
    "xlogy",
    "zeros",
    "zeros_like",
]

_SELF: Any = sys.modules[__name__]
_LARGE = 500.0
_NODES, _WEIGHTS = np.polynomial.legendre.leggauss(48)


def betaln(a: Any, b: Any) -> jax.Array:
    """Logarithm of the beta function.

    JAX's own is off by up to 1e-6 around b = 8. Here the difference of two log gamma functions
    of large arguments comes from Stirling's series, so that it does not cancel.
    """
    return _betaln(*_spread(a, b))


@jax.custom_jvp
def _betaln(a: jax.Array, b: jax.Array) -> jax.Array:
    small, large = minimum(a, b), maximum(a, b)
    total = small + large
    big = large > _LARGE
    safe = where(big, large, _LARGE)
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


def _betaln_jvp(primals: Any, tangents: Any) -> tuple[jax.Array, jax.Array]:
    a, b = primals
    value = _betaln(a, b)
    in_a = _part(lambda: _digamma_gap(a, b), tangents[0])
    return value, zeros_like(value) + in_a + _part(lambda: _digamma_gap(b, a), tangents[1])


_betaln.defjvp(_betaln_jvp, symbolic_zeros=True)


def _digamma_gap(a: jax.Array, more: jax.Array) -> jax.Array:
    """Return digamma(a) - digamma(a + more), of large a by its series (DLMF 5.11.2)."""
    big = a > _LARGE
    safe = where(big, a, _LARGE)
    total = safe + more
    series = (
        -log1p(more / safe) - (1 / safe - 1 / total) / 2 - (1 / safe**2 - 1 / total**2) / 12
    ) + (1 / safe**4 - 1 / total**4) / 120
    plain = where(big, 1.0, a)
    return where(big, series, digamma(plain) - digamma(plain + more))


def replaced(plain: jax.Array, where_: jax.Array, other: Any) -> jax.Array:
    """Return `plain`, or where a condition holds anywhere, `other()` in those places.

    What nothing needs is not computed, unless many points are looked at side by side.
    """
    shape = jax.eval_shape(lambda: where(where_, other(), plain)).shape
    return jax.lax.cond(
        jnp.any(where_),
        lambda: where(where_, other(), plain),
        lambda: broadcast_to(plain, shape),
    )


def until(go_on: Any, step: Any, state: Any) -> Any:
    """Apply `step` to a state as long as `go_on` holds."""
    start = jax.tree.map(lambda part: jnp.asarray(part, dtype=float), state)
    return jax.lax.while_loop(go_on, step, start)


def _part(factor: Any, tangent: Any) -> Any:
    """Return factor() times a tangent; nothing is worked out for what does not vary."""
    if isinstance(tangent, SymbolicZero):
        return 0.0
    return factor() * tangent


def _spread(*values: Any) -> list[jax.Array]:
    return list(broadcast_arrays(*(asarray(value, float) for value in values)))


@jax.custom_jvp
def _log_poisson(x: jax.Array, rate: jax.Array, log_rate: jax.Array) -> jax.Array:
    return saddle_point.log_poisson(_SELF, x, rate, log_rate)


def _log_poisson_jvp(primals: Any, tangents: Any) -> tuple[jax.Array, jax.Array]:
    x, rate, log_rate = primals
    value = _log_poisson(x, rate, log_rate)
    change = _part(lambda: log_rate - digamma(x + 1.0), tangents[0])
    change = change - _part(lambda: jnp.ones_like(x), tangents[1])
    return value, zeros_like(value) + change + _part(lambda: x, tangents[2])


_log_poisson.defjvp(_log_poisson_jvp, symbolic_zeros=True)


def log_poisson(x: Any, rate: Any, log_rate: Any) -> jax.Array:
    """Log of rate^x exp(-rate) / gamma(x + 1), exact for large arguments too."""
    return _log_poisson(*_spread(x, rate, log_rate))


@jax.custom_jvp
def _log_binomial(x: jax.Array, n: jax.Array, log_p: jax.Array, log_q: jax.Array) -> jax.Array:
    return saddle_point.log_binomial(_SELF, x, n, log_p, log_q)


def _log_binomial_jvp(primals: Any, tangents: Any) -> tuple[jax.Array, jax.Array]:
    x, n, log_p, log_q = primals
    value = _log_binomial(x, n, log_p, log_q)
    change = _part(lambda: digamma(n - x + 1.0) - digamma(x + 1.0) + log_p - log_q, tangents[0])
    change = change + _part(lambda: digamma(n + 1.0) - digamma(n - x + 1.0) + log_q, tangents[1])
    # No success of a chance of zero adds nothing, and neither do its tangents.
    up = _part(lambda: x, tangents[2])
    down = _part(lambda: n - x, tangents[3])
    up, down = where(x > 0, up, 0.0), where(n - x > 0, down, 0.0)
    return value, zeros_like(value) + change + up + down


_log_binomial.defjvp(_log_binomial_jvp, symbolic_zeros=True)


def log_binomial(x: Any, n: Any, log_p: Any, log_q: Any) -> jax.Array:
    """Log of C(n, x) p^x q^(n - x), exact for large arguments too."""
    return _log_binomial(*_spread(x, n, log_p, log_q))


@jax.custom_jvp
def _log_negative_binomial(x: jax.Array, mean: jax.Array, shape: jax.Array) -> jax.Array:
    return saddle_point.log_negative_binomial(_SELF, x, mean, shape)


def _log_negative_binomial_jvp(primals: Any, tangents: Any) -> tuple[jax.Array, jax.Array]:
    x, mu, shape = primals
    value = _log_negative_binomial(x, mu, shape)
    total = mu + shape
    change = _part(lambda: (x - mu) / total * (shape / mu), tangents[1])
    change = change + _part(
        lambda: digamma(x + shape) - digamma(shape) - log1p(mu / shape) + (mu - x) / total,
        tangents[2],
    )
    change = change + _part(
        lambda: digamma(x + shape) - digamma(x + 1.0) - log1p(shape / mu), tangents[0]
    )
    return value, zeros_like(value) + change


_log_negative_binomial.defjvp(_log_negative_binomial_jvp, symbolic_zeros=True)


def log_negative_binomial(x: Any, mean: Any, shape: Any) -> jax.Array:
    """Log probability of a negative binomial count, exact for large arguments too."""
    return _log_negative_binomial(*_spread(x, mean, shape))


@functools.partial(jax.jit, static_argnums=2)
def _gamma_share(a: jax.Array, x: jax.Array, below: bool) -> jax.Array:
    # Compiled by itself, so that outside of a model its loops are compiled once.
    return tails.log_gamma_share(_SELF, a, x, below)


@jax.jit
def _beta_share(a: jax.Array, b: jax.Array, x: jax.Array, y: jax.Array) -> jax.Array:
    return tails.log_beta_share(_SELF, a, b, x, y)


@functools.partial(jax.custom_jvp, nondiff_argnums=(2,))
def _log_gamma(a: jax.Array, x: jax.Array, below: bool) -> jax.Array:
    return _gamma_share(a, x, below)


def _log_gamma_jvp(
    below: bool, primals: tuple[jax.Array, ...], tangents: tuple[Any, ...]
) -> tuple[jax.Array, jax.Array]:
    a, x = primals
    value, in_a = _with_slope(lambda a: _gamma_share(a, x, below), a, tangents[0])
    return value, in_a + _part(lambda: _gamma_slope(a, x, value, below), tangents[1])


def _gamma_slope(a: jax.Array, x: jax.Array, value: jax.Array, below: bool) -> jax.Array:
    """Return the derivative in x of the log share: the density over the share."""
    inside = x > 0
    log_density = (a - 1) * log(where(inside, x, 1.0)) - x - gammaln(a)
    slope = where(inside, exp(log_density - where(inside, value, 0.0)), 0.0)
    return slope if below else -slope


def _with_slope(share: Any, a: jax.Array, tangent: Any) -> tuple[jax.Array, jax.Array]:
    """Return share(a) and its change along a tangent, forward through its loop.

    Such a loop is long to compile, so it is left out for what does not vary.
    """
    if isinstance(tangent, SymbolicZero):
        value = share(a)
        return value, zeros_like(value)
    value, slope = jax.jvp(share, (a,), (jnp.ones_like(a),))
    return value, slope * tangent


_log_gamma.defjvp(_log_gamma_jvp, symbolic_zeros=True)


def log_gammainc(a: Any, x: Any) -> jax.Array:
    """Log of the regularised lower incomplete gamma function, exact in far tails."""
    return _log_gamma(*broadcast_arrays(asarray(a, float), asarray(x, float)), True)


def log_gammaincc(a: Any, x: Any) -> jax.Array:
    """Log of the regularised upper incomplete gamma function, exact in far tails."""
    return _log_gamma(*broadcast_arrays(asarray(a, float), asarray(x, float)), False)


@jax.custom_jvp
def _log_beta(a: jax.Array, b: jax.Array, x: jax.Array, y: jax.Array) -> jax.Array:
    return _beta_share(a, b, x, y)


def _log_beta_jvp(
    primals: tuple[jax.Array, ...], tangents: tuple[Any, ...]
) -> tuple[jax.Array, jax.Array]:
    a, b, x, y = primals
    value, in_a = _with_slope(lambda a: _beta_share(a, b, x, y), a, tangents[0])
    _, in_b = _with_slope(lambda b: _beta_share(a, b, x, y), b, tangents[1])
    # Of x and y the smaller one has all its digits, and so its tangent.
    up, down = (_part(lambda: jnp.ones_like(x), tangent) for tangent in tangents[2:])
    along = where(x < y, up, -down)
    return value, in_a + in_b + _beta_slope(a, b, x, y, value) * along


def _beta_slope(a: Any, b: Any, x: Any, y: Any, value: Any) -> jax.Array:
    """Return the derivative in x of the log share: the density over the share."""
    inside = (x > 0) & (y > 0)
    log_x, log_y = log(where(inside, x, 0.5)), log(where(inside, y, 0.5))
    log_density = (a - 1) * log_x + (b - 1) * log_y - betaln(a, b)
    return where(inside, exp(log_density - where(inside, value, 0.0)), 0.0)


_log_beta.defjvp(_log_beta_jvp, symbolic_zeros=True)


def log_betainc(a: Any, b: Any, x: Any, y: Any) -> jax.Array:
    """Log of the regularised incomplete beta function at x, exact in far tails; y is 1 - x."""
    return _log_beta(*broadcast_arrays(*(asarray(part, float) for part in (a, b, x, y))))


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
    factor = cholesky(covariance)
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


def filled(values: jax.Array, at: jax.Array, new: jax.Array) -> jax.Array:
    """Return `values` (rows,) with `new` (..., gaps) in the places `at`; shape (..., rows)."""
    return broadcast_to(values, (*new.shape[:-1], *values.shape)).at[..., at].set(new)
