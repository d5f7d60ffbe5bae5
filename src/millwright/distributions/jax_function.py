"""Values of a Gaussian process in coordinates that data inform, with a derivative of their own."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import jax
import jax.numpy as jnp
from jax.custom_batching import sequential_vmap
from jax.custom_derivatives import SymbolicZero

from millwright.distributions.jax_matrices import cholesky, lower_inverse

__all__ = ["informed_function"]

_ALONE = 64
_HALF_LOG_2PI = 0.5 * math.log(2 * math.pi)


def informed_function(
    u: jax.Array,
    location: jax.Array,
    covariance: jax.Array,
    information: jax.Array,
    pull: jax.Array,
) -> tuple[jax.Array, jax.Array]:
    """Return values at coordinates u, and log prior plus log derivative of the map.

    With K = L L' and A = 1 + L' I L = C C': z = C'^-1 (C^-1 L' h + u), h = pull - I location,
    values = location + L z, log term = -z'z / 2 - log det(C), up to what pi gives.

    Parameters
    ----------
    u, location
        Shape (n,).
    covariance
        K, (n, n).
    information, pull
        Shape (n,).
    """
    location = jnp.broadcast_to(location, u.shape)
    return _informed(u, location, covariance, information, pull)


@jax.custom_jvp
def _informed(
    u: jax.Array,
    location: jax.Array,
    covariance: jax.Array,
    information: jax.Array,
    pull: jax.Array,
) -> tuple[jax.Array, jax.Array]:
    return _whole(u, location, covariance, information, pull)[0]


def _factors(covariance: jax.Array, information: jax.Array) -> tuple[jax.Array, ...]:
    """Return L, its inverse, C and its inverse."""
    factor = cholesky(covariance)
    across = jnp.swapaxes(factor, -1, -2)
    root = cholesky(jnp.eye(factor.shape[-1]) + (across * information) @ factor)
    return factor, lower_inverse(factor), root, lower_inverse(root)


# Large matrices side by side never come back: threads of compiled code wait for each other.
_one_after_another: Callable[..., tuple[jax.Array, ...]] = sequential_vmap(_factors)


def _whole(
    u: jax.Array,
    location: jax.Array,
    covariance: jax.Array,
    information: jax.Array,
    pull: jax.Array,
) -> tuple[tuple[jax.Array, jax.Array], tuple[jax.Array, ...]]:
    """Return the result, and what its derivative needs."""
    by = _one_after_another if u.shape[-1] > _ALONE else _factors
    factor, inverse, root, root_inverse = by(covariance, information)
    lean = factor.T @ (pull - information * location)
    told = root_inverse @ lean
    z = root_inverse.T @ (told + u)
    log_det = jnp.sum(jnp.log(jnp.diagonal(root)))
    log_term = -0.5 * jnp.sum(z * z) - u.shape[-1] * _HALF_LOG_2PI - log_det
    return (location + factor @ z, log_term), (factor, inverse, root, root_inverse, told, lean, z)


def _half(matrix: jax.Array) -> jax.Array:
    """Return the lower triangle with half of the diagonal."""
    return jnp.tril(matrix) - 0.5 * jnp.diag(jnp.diagonal(matrix))


def _instantiated(tangent: Any) -> jax.Array:
    """Return a tangent as numbers."""
    if isinstance(tangent, SymbolicZero):
        return jnp.zeros(tangent.shape, tangent.dtype)
    return jnp.asarray(tangent)


def _informed_jvp(
    primals: tuple[jax.Array, ...], tangents: tuple[Any, ...]
) -> tuple[tuple[jax.Array, jax.Array], tuple[jax.Array, jax.Array]]:
    """Differentiate by hand: dL = L E, dC = C F, with E and F lower (Murray 2016, section 2).

    Information and pull that are constants come with tangents that are known to be 0.
    """
    u, location, _, information, _ = primals
    du, d_location, d_covariance = map(_instantiated, tangents[:3])
    d_information, d_pull = tangents[3:]
    result, parts = _whole(*primals)
    factor, inverse, root, root_inverse, told, lean, z = parts
    e = _half(inverse @ d_covariance @ inverse.T)
    # dA = (A - 1) E + its transpose, seen from C.
    y = (root.T - root_inverse) @ e @ root_inverse.T
    y = y + y.T
    dh = -information * d_location
    if not isinstance(d_pull, SymbolicZero):
        dh = dh + d_pull
    if not isinstance(d_information, SymbolicZero):
        seen = root_inverse @ factor.T
        y = y + (seen * d_information) @ seen.T
        dh = dh - d_information * location
    f = _half(y)
    d_lean = e.T @ lean + factor.T @ dh
    d_told = root_inverse @ d_lean - f @ told
    dz = root_inverse.T @ (d_told + du - f.T @ (told + u))
    d_values = d_location + factor @ (e @ z + dz)
    d_log_term = -jnp.sum(z * dz) - jnp.trace(f)
    return result, (d_values, d_log_term)


_informed.defjvp(_informed_jvp, symbolic_zeros=True)
