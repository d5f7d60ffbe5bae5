"""Shares below and above a value, of the gamma and the beta distribution, on JAX."""

from __future__ import annotations

import functools
from typing import Any

import jax
import jax.numpy as jnp
import numpy as np
from jax.custom_derivatives import SymbolicZero
from jax.numpy import (
    asarray,
    broadcast_arrays,
    exp,
    log,
    log1p,
    minimum,
    sum,
    where,
    zeros_like,
)
from jax.scipy.special import (
    betainc as _betainc,
    digamma,
    gammaln,
    log_ndtr as _log_ndtr,
)

from millwright.distributions import jax_functions, tails
from millwright.distributions.jax_functions import betaln, part

__all__ = ["betainc", "log_betainc", "log_gammainc", "log_gammaincc", "log_ndtr"]

_NODES, _WEIGHTS = np.polynomial.legendre.leggauss(48)

_LOG_ROOT_2PI = 0.5 * np.log(2 * np.pi)

_FUNCTIONS: Any = jax_functions


def _log_below(z: jax.Array) -> tuple[jax.Array, jax.Array]:
    """Return log P(Z < z) and its derivative, the density over P(Z < z)."""
    far = z < -tails.FAR
    out = where(far, -z, tails.FAR)
    tail = tails.inverse_mills(out)
    near = _log_ndtr(where(far, 0.0, z))
    value = where(far, -0.5 * out * out - _LOG_ROOT_2PI - log(tail), near)
    slope = where(far, tail, exp(-0.5 * where(far, 0.0, z) ** 2 - _LOG_ROOT_2PI - near))
    return value, slope


@jax.custom_jvp
def log_ndtr(z: Any) -> jax.Array:
    """Log of P(Z < z) for standard normal Z, with its derivatives in the far tail too."""
    return _log_below(asarray(z, float))[0]


@log_ndtr.defjvp
def _log_ndtr_jvp(
    primals: tuple[jax.Array], tangents: tuple[jax.Array]
) -> tuple[jax.Array, jax.Array]:
    value, slope = _log_below(asarray(primals[0], float))
    return value, slope * tangents[0]


@functools.partial(jax.jit, static_argnums=2)
def _gamma_share(a: jax.Array, x: jax.Array, below: bool) -> jax.Array:
    # Compiled by itself, so that outside of a model its loops are compiled once.
    return tails.log_gamma_share(_FUNCTIONS, a, x, below)


@jax.jit
def _beta_share(a: jax.Array, b: jax.Array, x: jax.Array, y: jax.Array) -> jax.Array:
    return tails.log_beta_share(_FUNCTIONS, a, b, x, y)


@functools.partial(jax.custom_jvp, nondiff_argnums=(2,))
def _log_gamma(a: jax.Array, x: jax.Array, below: bool) -> jax.Array:
    return _gamma_share(a, x, below)


def _log_gamma_jvp(
    below: bool, primals: tuple[jax.Array, ...], tangents: tuple[Any, ...]
) -> tuple[jax.Array, jax.Array]:
    a, x = primals
    value, in_a = _with_slope(lambda a: _gamma_share(a, x, below), a, tangents[0])
    return value, in_a + part(lambda: _gamma_slope(a, x, value, below), tangents[1])


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
    up, down = (part(lambda: jnp.ones_like(x), tangent) for tangent in tangents[2:])
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
