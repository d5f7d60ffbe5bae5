"""Shares below and above a value, of the gamma and the beta distribution, on JAX."""

from __future__ import annotations

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
    erfc,
    gammaln,
)

from millwright.distributions import jax_functions, tails
from millwright.distributions.jax_gamma import betaln
from millwright.distributions.jax_tangents import part

__all__ = [
    "betainc",
    "log_beta_shares",
    "log_betainc",
    "log_gamma_shares",
    "log_gammainc",
    "log_gammaincc",
    "log_ndtr",
    "log_ndtr_tails",
]

_Pair = tuple[jax.Array, jax.Array]

_NODES, _WEIGHTS = np.polynomial.legendre.leggauss(48)

_ROOT_HALF = np.sqrt(0.5)
_LOG_ROOT_2PI = 0.5 * np.log(2 * np.pi)

_FUNCTIONS: Any = jax_functions


def _normal_tails(z: jax.Array) -> tuple[_Pair, _Pair]:
    """Return log P(Z < z) and log P(Z > z), and their derivatives.

    One function gives the smaller, from which the larger follows.
    """
    left = z < 0
    # The absolute value has no derivative at 0.
    out = where(left, -z, z)
    far = out > tails.FAR
    log_density = -0.5 * out * out - _LOG_ROOT_2PI
    hazard = tails.inverse_mills(where(far, out, tails.FAR))
    near = 0.5 * erfc(_ROOT_HALF * where(far, 0.0, out))
    smaller = where(far, log_density - log(hazard), log(near))
    share = where(far, exp(smaller), near)
    larger, density = log1p(-share), exp(log_density)
    steep, flat = where(far, hazard, density / near), density / (1.0 - share)
    values = where(left, smaller, larger), where(left, larger, smaller)
    return values, (where(left, steep, flat), -where(left, flat, steep))


@jax.custom_jvp
def log_ndtr_tails(z: Any) -> _Pair:
    """Logs of P(Z < z) and P(Z > z) for standard normal Z, with derivatives in far tails too."""
    return _normal_tails(asarray(z, float))[0]


@log_ndtr_tails.defjvp
def _log_ndtr_tails_jvp(
    primals: tuple[jax.Array], tangents: tuple[jax.Array]
) -> tuple[_Pair, _Pair]:
    values, (below, above) = _normal_tails(asarray(primals[0], float))
    return values, (below * tangents[0], above * tangents[0])


def log_ndtr(z: Any) -> jax.Array:
    """Log of P(Z < z) for standard normal Z, with its derivatives in the far tail too."""
    return log_ndtr_tails(z)[0]


@jax.jit
def _gamma_shares(a: jax.Array, x: jax.Array) -> _Pair:
    # Compiled by itself, so that outside of a model its loops are compiled once.
    return tails.log_gamma_shares(_FUNCTIONS, a, x)


@jax.jit
def _beta_shares(a: jax.Array, b: jax.Array, x: jax.Array, y: jax.Array) -> _Pair:
    return tails.log_beta_shares(_FUNCTIONS, a, b, x, y)


@jax.custom_jvp
def _log_gamma(a: jax.Array, x: jax.Array) -> _Pair:
    return _gamma_shares(a, x)


def _log_gamma_jvp(
    primals: tuple[jax.Array, ...], tangents: tuple[Any, ...]
) -> tuple[_Pair, _Pair]:
    a, x = primals
    values, in_shape = _with_slopes(lambda a: _gamma_shares(a, x), (a,), tangents[:1])
    along = part(lambda: jnp.ones_like(x), tangents[1])
    inside = x > 0
    log_density = (a - 1) * log(where(inside, x, 1.0)) - x - gammaln(a)
    below, above = _over_shares(log_density, values, inside)
    return values, (in_shape[0] + below * along, in_shape[1] - above * along)


def _over_shares(log_density: jax.Array, values: _Pair, inside: jax.Array) -> _Pair:
    """Return a density over the share below and over that above; zero outside the support."""
    below, above = (
        where(inside, exp(log_density - where(inside, value, 0.0)), 0.0) for value in values
    )
    return below, above


def _with_slopes(
    shares: Any, shapes: tuple[jax.Array, ...], tangents: tuple[Any, ...]
) -> tuple[_Pair, _Pair]:
    """Return shares(*shapes) and their change along the tangents, forward through their loop.

    One loop for all that varies, and none for what does not: it is long to compile.
    """
    varying = [k for k, tangent in enumerate(tangents) if not isinstance(tangent, SymbolicZero)]
    if not varying:
        zero = zeros_like(shapes[0])
        return shares(*shapes), (zero, zero)

    def along(direction: jax.Array) -> tuple[_Pair, _Pair]:
        each = tuple(direction[k] * jnp.ones_like(a) for k, a in enumerate(shapes))
        return jax.jvp(shares, shapes, each)

    directions = jnp.eye(len(shapes))[jnp.array(varying)]
    values, slopes = jax.vmap(along, out_axes=(None, 0))(directions)
    below, above = (
        sum(jnp.stack([slope[at] * tangents[k] for at, k in enumerate(varying)]), axis=0)
        for slope in slopes
    )
    return values, (below, above)


_log_gamma.defjvp(_log_gamma_jvp, symbolic_zeros=True)


def log_gamma_shares(a: Any, x: Any) -> _Pair:
    """Logs of both regularised incomplete gamma functions, exact in far tails; lower one first."""
    return _log_gamma(*broadcast_arrays(asarray(a, float), asarray(x, float)))


def log_gammainc(a: Any, x: Any) -> jax.Array:
    """Log of the regularised lower incomplete gamma function, exact in far tails."""
    return log_gamma_shares(a, x)[0]


def log_gammaincc(a: Any, x: Any) -> jax.Array:
    """Log of the regularised upper incomplete gamma function, exact in far tails."""
    return log_gamma_shares(a, x)[1]


@jax.custom_jvp
def _log_beta(a: jax.Array, b: jax.Array, x: jax.Array, y: jax.Array) -> _Pair:
    return _beta_shares(a, b, x, y)


def _log_beta_jvp(
    primals: tuple[jax.Array, ...], tangents: tuple[Any, ...]
) -> tuple[_Pair, _Pair]:
    a, b, x, y = primals
    values, in_shapes = _with_slopes(lambda a, b: _beta_shares(a, b, x, y), (a, b), tangents[:2])
    # Of x and y the smaller one has all its digits, and so its tangent.
    up, down = (part(lambda: jnp.ones_like(x), tangent) for tangent in tangents[2:])
    along = where(x < y, up, -down)
    inside = (x > 0) & (y > 0)
    log_x, log_y = log(where(inside, x, 0.5)), log(where(inside, y, 0.5))
    log_density = (a - 1) * log_x + (b - 1) * log_y - betaln(a, b)
    below, above = _over_shares(log_density, values, inside)
    return values, (in_shapes[0] + below * along, in_shapes[1] - above * along)


_log_beta.defjvp(_log_beta_jvp, symbolic_zeros=True)


def log_beta_shares(a: Any, b: Any, x: Any, y: Any) -> _Pair:
    """Logs of the shares of a beta distribution below and above x, exact in far tails.

    y is 1 - x.
    """
    return _log_beta(*broadcast_arrays(*(asarray(part, float) for part in (a, b, x, y))))


def log_betainc(a: Any, b: Any, x: Any, y: Any) -> jax.Array:
    """Log of the regularised incomplete beta function at x, exact in far tails; y is 1 - x."""
    return log_beta_shares(a, b, x, y)[0]


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
