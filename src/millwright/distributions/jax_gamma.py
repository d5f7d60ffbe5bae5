"""Ratios of gamma functions on JAX, without cancellation and without branches.

JAX's `betaln` is off by up to 1e-6 around b = 8, and differences of two log gamma functions of
large arguments lose their digits. Stirling's series (DLMF 5.11.1 and 5.11.2) serves from 8 on;
smaller arguments are moved up by gamma(z + 8) = z (z + 1) ... (z + 7) gamma(z).
"""

from __future__ import annotations

from typing import Any

import jax
from jax.numpy import log, log1p, maximum, minimum, ones_like, where, zeros_like

from millwright.distributions.jax_tangents import part, spread

__all__ = ["betaln", "digamma_gap", "log_factorial", "log_gamma_ratio"]

_FAR = 1e6


def _moved_up(z: jax.Array, far: jax.Array) -> jax.Array:
    return where(far, z, z + 8.0)


def _factors(z: jax.Array, far: jax.Array) -> tuple[jax.Array, jax.Array, jax.Array]:
    """Return w = z (z + 7), and z ... (z + 7) as a product of two: one each of what is far."""
    w = where(far, 1.0, z * (z + 7.0))
    return w, w * (w + 6.0), (w + 10.0) * (w + 12.0)


def _log_product(z: jax.Array, far: jax.Array) -> jax.Array:
    _, one, other = _factors(z, far)
    return where(far, 0.0, log(one * other))


def _error(z: jax.Array) -> jax.Array:
    """Log gamma(z) less (z - 1/2) log z - z + log(2 pi) / 2, for z >= 8."""
    inverse = 1.0 / z
    s = inverse * inverse
    more = 1 / 1680 - s * (1 / 1188 - s * (691 / 360360 - s / 156))
    return inverse * (1 / 12 - s * (1 / 360 - s * (1 / 1260 - s * more)))


def log_gamma_ratio(z: jax.Array, x: jax.Array) -> jax.Array:
    """Return log of gamma(z + x) / gamma(z), for z > 0 and x > -z, to about 1e-15 x log(z + x)."""
    far = z > _FAR
    up = _moved_up(z, far)
    moved = (up - 0.5) * log1p(x / up) + x * log(up + x) - x + (_error(up + x) - _error(up))
    return moved - (_log_product(z + x, far) - _log_product(z, far))


def log_factorial(x: jax.Array) -> jax.Array:
    """Return log of gamma(x + 1), for x > -1."""
    return log_gamma_ratio(ones_like(x), x)


def _slope_of_error(z: jax.Array) -> jax.Array:
    """Digamma(z) less log z, for z >= 8."""
    inverse = 1.0 / z
    s = inverse * inverse
    more = 1 / 240 - s * (1 / 132 - s * (691 / 32760 - s / 12))
    return -inverse * (0.5 + inverse * (1 / 12 - s * (1 / 120 - s * (1 / 252 - s * more))))


def _sum_of_inverses(z: jax.Array, far: jax.Array) -> jax.Array:
    """Return 1 / z + ... + 1 / (z + 7), the derivative of the log of their product."""
    w, one, other = _factors(z, far)
    slope = (2.0 * w + 6.0) * other + one * (2.0 * w + 22.0)
    return where(far, 0.0, (2.0 * z + 7.0) * slope / (one * other))


def digamma_gap(z: jax.Array, x: jax.Array) -> jax.Array:
    """Return digamma(z + x) - digamma(z), for z > 0 and x > -z."""
    far = z > _FAR
    up = _moved_up(z, far)
    moved = log1p(x / up) + (_slope_of_error(up + x) - _slope_of_error(up))
    return moved - (_sum_of_inverses(z + x, far) - _sum_of_inverses(z, far))


def betaln(a: Any, b: Any) -> jax.Array:
    """Logarithm of the beta function."""
    return _betaln(*spread(a, b))


@jax.custom_jvp
def _betaln(a: jax.Array, b: jax.Array) -> jax.Array:
    small, large = minimum(a, b), maximum(a, b)
    # Gamma(small) is gamma(1 + small) / small.
    return log_factorial(small) - log(small) - log_gamma_ratio(large, small)


def _betaln_jvp(primals: Any, tangents: Any) -> tuple[jax.Array, jax.Array]:
    a, b = primals
    value = _betaln(a, b)
    in_a = part(lambda: -digamma_gap(a, b), tangents[0])
    return value, zeros_like(value) + in_a + part(lambda: -digamma_gap(b, a), tangents[1])


_betaln.defjvp(_betaln_jvp, symbolic_zeros=True)
