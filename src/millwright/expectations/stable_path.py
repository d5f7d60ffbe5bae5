"""The stable path as a function that can be compiled and differentiated (JAX).

The quadratic matrix equation A P^2 + B P + C = 0 is solved by cyclic reduction (Bini and Meini
1996, SIAM Journal on Matrix Analysis and Applications 17), which converges quadratically where the
roots are split by the unit circle. Its derivative is that of the implicit
function.
"""

from __future__ import annotations

from typing import Any

import jax
import jax.numpy as jnp

__all__ = ["spread_at_rest", "stable_path"]

_MOST_STEPS = 40
_SMALL = 1e-14
_RESIDUAL = 1e-8
_DOUBLINGS = 26
"""Enough for roots up to 1 - 1e-6: the sum holds 2^26 terms."""


def stable_path(
    ahead: jax.Array, now: jax.Array, before: jax.Array, shocks: jax.Array
) -> tuple[jax.Array, jax.Array, jax.Array]:
    """Return transition (n, n) and impact (n, shocks), and whether they are the one stable path.

    Parameters
    ----------
    ahead, now, before, shocks
        Matrices of the system: (n, n) each, and (n, shocks).
    """
    transition = _solvent(ahead, now, before)
    inner = ahead @ transition + now
    impact = -jnp.linalg.solve(inner, shocks)
    return transition, impact, _is_the_one(ahead, now, before, transition)


@jax.custom_jvp
def _solvent(ahead: jax.Array, now: jax.Array, before: jax.Array) -> jax.Array:
    """Return P with roots inside the circle; anything where there is none."""

    def going(state: tuple[Any, ...]) -> Any:
        step, up, _, down, _ = state
        size = jnp.minimum(jnp.abs(up).max(), jnp.abs(down).max())
        return (step < _MOST_STEPS) & (size > _SMALL * jnp.abs(now).max())

    def halve(state: tuple[Any, ...]) -> tuple[Any, ...]:
        step, up, middle, down, edge = state
        both = jnp.linalg.solve(middle, jnp.concatenate([up, down], axis=1))
        of_up, of_down = jnp.split(both, 2, axis=1)
        crossed = up @ of_down
        return (
            step + 1,
            -up @ of_up,
            middle - crossed - down @ of_up,
            -down @ of_down,
            edge - crossed,
        )

    *_, edge = jax.lax.while_loop(going, halve, (0, ahead, now, before, now))
    return -jnp.linalg.solve(edge, before)


@_solvent.defjvp
def _solvent_jvp(primals: Any, tangents: Any) -> tuple[jax.Array, jax.Array]:
    """dP - F dP P = -M^-1 (dA P^2 + dB P + dC), M = A P + B, F = -M^-1 A."""
    ahead, now, before = primals
    d_ahead, d_now, d_before = tangents
    path = _solvent(ahead, now, before)
    inner = ahead @ path + now
    change = (d_ahead @ path + d_now) @ path + d_before
    n = len(path)
    back = -jnp.linalg.solve(inner, ahead)
    # Row-major: vec(F X P) = (F kron P') vec(X).
    whole = jnp.eye(n * n) - jnp.kron(back, path.T)
    right = -jnp.linalg.solve(inner, change)
    return path, jnp.linalg.solve(whole, right.reshape(-1)).reshape(n, n)


def _is_the_one(ahead: jax.Array, now: jax.Array, before: jax.Array, path: jax.Array) -> jax.Array:
    """Tell whether P solves the equation, and splits the roots by the unit circle.

    The roots are those of P and the inverse ones of F: with both inside the circle as many roots
    lie inside as there are variables, and P is the one stable path.
    """
    ahead, now, before, path = jax.lax.stop_gradient((ahead, now, before, path))
    size = jnp.abs(now).max() + jnp.abs(ahead).max() + jnp.abs(before).max()
    error = jnp.abs((ahead @ path + now) @ path + before).max()
    back = -jnp.linalg.solve(ahead @ path + now, ahead)
    finite = jnp.isfinite(path).all() & jnp.isfinite(back).all()
    solves = error < _RESIDUAL * size * (1 + jnp.abs(path).max() ** 2)
    return finite & solves & (_largest(path, finite) < 1) & (_largest(back, finite) < 1)


def _largest(matrix: jax.Array, finite: jax.Array) -> jax.Array:
    """Return the largest modulus of the roots of a matrix."""
    return jnp.abs(jnp.linalg.eigvals(jnp.where(finite, matrix, 0.0))).max()


@jax.custom_vjp
def spread_at_rest(transition: jax.Array, steps: jax.Array) -> jax.Array:
    """Return the covariance (n, n) that stays: S = P S P' + steps, by doubling (Smith 1968)."""
    return _doubled(transition, steps)


def _doubled(transition: jax.Array, steps: jax.Array) -> jax.Array:
    def double(state: tuple[jax.Array, jax.Array], _: None) -> tuple[Any, None]:
        total, power = state
        total = total + power @ total @ power.T
        return (total, power @ power), None

    (total, _), _ = jax.lax.scan(double, (steps, transition), None, length=_DOUBLINGS)
    return 0.5 * (total + total.T)


def _doubled_with_record(transition: jax.Array, steps: jax.Array) -> tuple[Any, Any]:
    spread = _doubled(transition, steps)
    return spread, (transition, spread)


def _doubled_back(kept: Any, slope: jax.Array) -> tuple[jax.Array, jax.Array]:
    """With X = P' X P + slope: X in the steps, and 2 X P S in P."""
    transition, spread = kept
    found = _doubled(transition.T, 0.5 * (slope + slope.T))
    return 2 * found @ transition @ spread, found


spread_at_rest.defvjp(_doubled_with_record, _doubled_back)
