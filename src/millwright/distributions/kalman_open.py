"""The density of a series whose first state may be anything, with its gradient (JAX).

With the first state at its best given the readings, and the precision S of it, the log density is
log p(readings | best) - log(det S) / 2 up to a constant. Both have the gradient of densities of
series with a *known* first state: at its best the first does not hang on it, and the second is
that of tr(S0^-1 S), one series of zeros for each column of a root of S0^-1. So one pass back of
the plain filter, over all of them at once, gives the gradient exactly.
"""

from __future__ import annotations

import functools
from typing import Any

import jax
import jax.numpy as jnp

from millwright.distributions.filtering import System
from millwright.distributions.kalman import Series, log_density
from millwright.distributions.mathematics import Mathematics
from millwright.distributions.open_start import Start, start_of

__all__ = ["open_kalman_log_density"]


def open_kalman_log_density(m: Mathematics, **parts: Any) -> Any:
    """Return the log density of a `Series` of these parts, whatever its first state.

    It has one reading a time; `m` is JAX's mathematics.
    """
    return _log_density(m, Series(**parts))


@functools.partial(jax.custom_vjp, nondiff_argnums=(0,))
def _log_density(m: Mathematics, series: Series) -> Any:
    return _start(m, series).log_density


def _start(m: Mathematics, series: Series) -> Start:
    readings, read, moves = series.readings[:, 0], series.read[:, 0], series.moves
    system = System(
        transition=series.transition,
        steps=series.steps,
        loading=series.loadings[:, 0],
        noise=series.errors[:, 0] ** 2,
        mean=series.mean,
        spread=series.spread,
        moves=jnp.ones(len(readings), bool) if moves is None else moves,
    )
    return start_of(m, readings, read, system)


def _with_start(m: Mathematics, series: Series) -> tuple[Any, Any]:
    found = _start(m, series)
    return found.log_density, (series, found.mean, found.root)


def _back(m: Mathematics, kept: Any, slope: Any) -> tuple[Series]:
    series, mean, root = kept
    k = len(mean)
    # The readings from the best start; zeros from the columns; and zeros from zero, which take
    # away what those have in common.
    starts = jnp.concatenate([mean[None], root.T, jnp.zeros((1, k))])
    weights = jnp.concatenate([jnp.ones(1 + k), jnp.array([-float(k)])])
    of_readings = (jnp.arange(k + 2) == 0)[:, None, None]

    def total(series: Series) -> Any:
        def one(readings: Any, start: Any) -> Any:
            known = series._replace(readings=readings, mean=start, spread=jnp.zeros((k, k)))
            return log_density(known)

        readings = jnp.where(of_readings, series.readings, 0.0)
        return weights @ jax.vmap(one)(readings, starts)

    (found,) = jax.vjp(total, series)[1](slope)
    return (found._replace(read=None, moves=None),)


_log_density.defvjp(_with_start, _back)
