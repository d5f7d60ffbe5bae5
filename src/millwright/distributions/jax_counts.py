"""Log densities of counts on JAX, with derivatives of their own."""

from __future__ import annotations

from typing import Any

import jax
import jax.numpy as jnp
from jax.numpy import (
    log1p,
    where,
    zeros_like,
)
from jax.scipy.special import (
    digamma,
)

from millwright.distributions import jax_functions, saddle_point
from millwright.distributions.jax_gamma import digamma_gap
from millwright.distributions.jax_tangents import part, spread

__all__ = ["log_binomial", "log_large_binomial", "log_negative_binomial", "log_poisson"]

_FUNCTIONS: Any = jax_functions


@jax.custom_jvp
def _log_poisson(x: jax.Array, rate: jax.Array, log_rate: jax.Array) -> jax.Array:
    return saddle_point.log_poisson(_FUNCTIONS, x, rate, log_rate)


def _log_poisson_jvp(primals: Any, tangents: Any) -> tuple[jax.Array, jax.Array]:
    x, rate, log_rate = primals
    value = _log_poisson(x, rate, log_rate)
    change = part(lambda: log_rate - digamma(x + 1.0), tangents[0])
    change = change - part(lambda: jnp.ones_like(x), tangents[1])
    return value, zeros_like(value) + change + part(lambda: x, tangents[2])


_log_poisson.defjvp(_log_poisson_jvp, symbolic_zeros=True)


def log_poisson(x: Any, rate: Any, log_rate: Any) -> jax.Array:
    """Log of rate^x exp(-rate) / gamma(x + 1), exact for large arguments too."""
    return _log_poisson(*spread(x, rate, log_rate))


@jax.custom_jvp
def _log_binomial(x: jax.Array, n: jax.Array, log_p: jax.Array, log_q: jax.Array) -> jax.Array:
    return saddle_point.log_binomial(_FUNCTIONS, x, n, log_p, log_q)


def _log_binomial_jvp(primals: Any, tangents: Any) -> tuple[jax.Array, jax.Array]:
    x, n, log_p, log_q = primals
    value = _log_binomial(x, n, log_p, log_q)
    change = part(lambda: digamma(n - x + 1.0) - digamma(x + 1.0) + log_p - log_q, tangents[0])
    change = change + part(lambda: digamma(n + 1.0) - digamma(n - x + 1.0) + log_q, tangents[1])
    # No success of a chance of zero adds nothing, and neither do its tangents.
    up = part(lambda: x, tangents[2])
    down = part(lambda: n - x, tangents[3])
    up, down = where(x > 0, up, 0.0), where(n - x > 0, down, 0.0)
    return value, zeros_like(value) + change + up + down


_log_binomial.defjvp(_log_binomial_jvp, symbolic_zeros=True)


def log_binomial(x: Any, n: Any, log_p: Any, log_q: Any) -> jax.Array:
    """Log of C(n, x) p^x q^(n - x), exact for large arguments too."""
    return _log_binomial(*spread(x, n, log_p, log_q))


@jax.custom_jvp
def _log_large_binomial(
    hits: jax.Array, misses: jax.Array, log_p: jax.Array, log_q: jax.Array
) -> jax.Array:
    return saddle_point.log_large_binomial(_FUNCTIONS, hits, misses, log_p, log_q)


def _log_large_binomial_jvp(primals: Any, tangents: Any) -> tuple[jax.Array, jax.Array]:
    hits, misses, log_p, log_q = primals
    value, n = _log_large_binomial(*primals), hits + misses
    change = part(lambda: digamma(n + 1.0) - digamma(hits + 1.0) + log_p, tangents[0])
    change = change + part(lambda: digamma(n + 1.0) - digamma(misses + 1.0) + log_q, tangents[1])
    change = change + part(lambda: hits, tangents[2]) + part(lambda: misses, tangents[3])
    return value, zeros_like(value) + change


_log_large_binomial.defjvp(_log_large_binomial_jvp, symbolic_zeros=True)


def log_large_binomial(hits: Any, misses: Any, log_p: Any, log_q: Any) -> jax.Array:
    """Log of C(n, x) p^x q^(n - x) for x hits and n - x misses, both large."""
    return _log_large_binomial(*spread(hits, misses, log_p, log_q))


@jax.custom_jvp
def _log_negative_binomial(x: jax.Array, mean: jax.Array, shape: jax.Array) -> jax.Array:
    return saddle_point.log_negative_binomial(_FUNCTIONS, x, mean, shape)


def _log_negative_binomial_jvp(primals: Any, tangents: Any) -> tuple[jax.Array, jax.Array]:
    x, mu, shape = primals
    value = _log_negative_binomial(x, mu, shape)
    total = mu + shape
    change = part(lambda: (x - mu) / total * (shape / mu), tangents[1])
    change = change + part(
        lambda: digamma_gap(shape, x) - log1p(mu / shape) + (mu - x) / total,
        tangents[2],
    )
    change = change + part(
        lambda: digamma(x + shape) - digamma(x + 1.0) - log1p(shape / mu), tangents[0]
    )
    return value, zeros_like(value) + change


_log_negative_binomial.defjvp(_log_negative_binomial_jvp, symbolic_zeros=True)


def log_negative_binomial(x: Any, mean: Any, shape: Any) -> jax.Array:
    """Log probability of a negative binomial count, exact for large arguments too."""
    return _log_negative_binomial(*spread(x, mean, shape))
