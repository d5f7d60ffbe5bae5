"""The density of noisy readings of a Matern process along one axis, in linear time (JAX)."""

from __future__ import annotations

from typing import Any

import jax
import jax.numpy as jnp

from millwright.distributions.kalman import Series, log_density
from millwright.distributions.matern import Along, moves, rate, spread_of
from millwright.distributions.mathematics import Mathematics

__all__ = ["matern_log_density"]


def matern_log_density(m: Mathematics, values: Any, along: Along) -> Any:
    """Return the log density of noisy readings of a process, shape (rows,); `m` is JAX's."""
    kernel, height = along.kernel, along.height
    x, readings, noise = along.x, values - along.location, along.noise
    ordered = jnp.all(x[1:] >= x[:-1])
    x, readings, noise = jax.lax.cond(ordered, lambda *rows: rows, _in_order, x, readings, noise)
    gaps = jnp.concatenate([x[1:] - x[:-1], jnp.zeros(1)])
    transition, steps = moves(m, kernel, gaps * rate(kernel, jnp.abs(along.length)))
    spread = height**2 * spread_of(kernel)
    k = len(spread)
    first = jnp.zeros(k).at[0].set(1.0)
    series = Series(
        loadings=jnp.broadcast_to(first, (len(x), 1, k)),
        transition=transition,
        steps=height**2 * steps,
        mean=jnp.zeros(k),
        spread=spread,
        errors=noise[:, None],
        readings=readings[:, None],
        read=jnp.ones((len(x), 1), dtype=bool),
    )
    return log_density(series)


def _in_order(x: Any, *others: Any) -> tuple[Any, ...]:
    order = jnp.argsort(x)
    return (x[order], *(one[order] for one in others))
