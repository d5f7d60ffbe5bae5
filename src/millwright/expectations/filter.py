"""The Kalman filter with readings one after the other, and its gradient in one pass back (JAX).

Durbin and Koopman (2012), "Time Series Analysis by State Space Methods", sections 4.3 and 6.4. The
gradient is the chain rule through the same steps, last first; a compiler's own takes several times
as long, since it keeps every product of every step.
"""

from __future__ import annotations

import functools
import math
from typing import Any, NamedTuple

import jax
import jax.numpy as jnp

__all__ = ["last_state", "log_density"]

_UNROLLED = 4
"""Times in one turn of a loop: it takes half as long as with one."""

Places = tuple[int, ...]


class _Taken(NamedTuple):
    """What taking the readings of a time left: of each its lean, variance and error."""

    leans: Any
    variances: Any
    errors: Any


def last_state(
    places: Places, transition: Any, steps: Any, first: Any, levels: Any, errors: Any, data: Any
) -> tuple[Any, Any]:
    """Return mean (n,) and covariance (n, n) of the state at the last time; see `log_density`."""
    mean, spread, _ = _forward(places, transition, steps, first, levels, errors, *data)[0]
    return mean, spread


@functools.partial(jax.custom_vjp, nondiff_argnums=(0,))
def log_density(
    places: Places,
    transition: Any,
    steps: Any,
    first: Any,
    levels: Any,
    errors: Any,
    readings: Any,
    read: Any,
) -> Any:
    """Return the log density of readings of a state that moves by a matrix and normal steps.

    Parameters
    ----------
    places
        Which entry of the state each reading is of.
    transition, steps
        state(t) = transition state(t-1) + a step with the covariance `steps`, (n, n) each.
    first
        Covariance of the state before the first time; its mean is 0.
    levels, errors
        What is added to each reading, and the sd of its error, (readings,).
    readings, read
        (times, readings): values, and whether each was read.
    """
    return _forward(places, transition, steps, first, levels, errors, readings, read)[0][2]


def _forward(
    places: Places,
    transition: Any,
    steps: Any,
    first: Any,
    levels: Any,
    errors: Any,
    readings: Any,
    read: Any,
) -> tuple[Any, Any]:
    """Return last mean, covariance and log density; and of each time what the way back needs."""

    def at_time(carry: Any, given: Any) -> tuple[Any, Any]:
        mean, spread, total = carry
        before = mean, spread
        values, there = given
        mean = transition @ mean
        spread = transition @ spread @ transition.T + steps
        # Rounding would make the matrix lean over in long series.
        spread = 0.5 * (spread + spread.T)
        taken = []
        for at, place in enumerate(places):
            lean = spread[:, place]
            variance = lean[place] + errors[at] ** 2
            error = values[at] - levels[at] - mean[place]
            density = -0.5 * (error**2 / variance + jnp.log(2 * math.pi * variance))
            total = total + jnp.where(there[at], density, 0.0)
            weight = jnp.where(there[at], 1 / variance, 0.0)
            mean = mean + lean * (error * weight)
            spread = spread - lean[:, None] * (lean * weight)[None, :]
            taken.append((lean, variance, error))
        return (mean, spread, total), (before, _Taken(*map(jnp.stack, zip(*taken, strict=True))))

    start = jnp.zeros(len(transition)), first, jnp.zeros(())
    return jax.lax.scan(at_time, start, (readings, read), unroll=_UNROLLED)


def _with_record(places: Places, *arguments: Any) -> tuple[Any, Any]:
    (_, _, total), record = _forward(places, *arguments)
    return total, (arguments, record)


def _back(places: Places, kept: Any, slope: Any) -> tuple[Any, ...]:
    """Return derivatives in transition, steps, first, levels and errors."""
    (transition, _, _, _, errors, _, read), record = kept
    units = jnp.eye(len(transition))

    def at_time(carry: Any, given: Any) -> tuple[Any, Any]:
        of_mean, of_spread = carry
        taken, there = given
        slopes = []
        for at in reversed(range(len(places))):
            unit = units[places[at]]
            lean, variance, error = taken.leans[at], taken.variances[at], taken.errors[at]
            weight = jnp.where(there[at], 1 / variance, 0.0)
            along = of_mean @ lean
            bent = of_spread @ lean
            of_error = weight * (along - slope * error)
            of_variance = weight * (
                weight * (lean @ bent - along * error + 0.5 * slope * error**2) - 0.5 * slope
            )
            half = weight * (0.5 * error * of_mean - bent) + 0.5 * of_variance * unit
            of_spread = of_spread + half[:, None] * unit + unit[:, None] * half
            of_mean = of_mean - of_error * unit
            slopes.append((of_error, of_variance))
        of_levels, of_variances = (jnp.stack(one) for one in zip(*slopes[::-1], strict=True))
        before = transition.T @ of_mean, transition.T @ of_spread @ transition
        return before, (of_mean, of_spread, of_levels, of_variances)

    start = jnp.zeros(len(transition)), jnp.zeros_like(transition)
    (means, spreads), taken = record
    (_, of_first), found = jax.lax.scan(
        at_time, start, (taken, read), reverse=True, unroll=_UNROLLED
    )
    of_means, of_spreads, of_levels, of_variances = found
    # Sums over times, outside the loop.
    n = len(transition)
    bent = (of_spreads @ transition).transpose(0, 2, 1).reshape(-1, n)
    of_transition = 2 * bent.T @ spreads.reshape(-1, n) + of_means.T @ means
    of_errors = 2 * errors * of_variances.sum(axis=0)
    of_steps = of_spreads.sum(axis=0)
    return of_transition, of_steps, of_first, -of_levels.sum(axis=0), of_errors, None, None


log_density.defvjp(_with_record, _back)
