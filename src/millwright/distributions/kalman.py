"""The Kalman filter with readings one after the other, and its gradient in one pass back (JAX).

Durbin and Koopman (2012), "Time Series Analysis by State Space Methods", sections 4.3 and 6.4. The
gradient is the chain rule through the same steps, last first, with everything outside of the loops
that does not hang on the step before: a compiler's own takes three times as long.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import jax
import jax.numpy as jnp

__all__ = ["Series", "kalman_log_density", "last_state", "log_density"]

_TOGETHER = 4
"""Times of one reading in one turn of a loop: half as long as with one. Several readings a
time gain nothing by it, and take far longer to compile."""


class Series(NamedTuple):
    """Readings and how they hang on a state; n entries of the state, k readings a time.

    Attributes
    ----------
    loadings
        Weights of the state in each reading, (times, k, n).
    transition, steps
        state(t + 1) = transition state(t) + a step with the covariance `steps`, (n, n) each, or
        both for each time, (times, n, n).
    mean, spread
        Mean (n,) and covariance (n, n) of the state at the first time, before its readings.
    errors
        Sds of the readings around what they read, (times, k).
    readings, read
        (times, k): values, and whether each was read.
    moves
        (times,): whether the state moves on after each; None if it always does.
    """

    loadings: Any
    transition: Any
    steps: Any
    mean: Any
    spread: Any
    errors: Any
    readings: Any
    read: Any
    moves: Any = None


class _Taken(NamedTuple):
    """What each reading found, (times, k, ...): the state before it, its lean and error."""

    means: Any
    spreads: Any
    leans: Any
    variances: Any
    errors: Any
    weights: Any


def last_state(series: Series) -> tuple[Any, Any]:
    """Return mean (n,) and covariance (n, n) of the state at the last time, by all readings."""
    (_, _, _, mean, spread), _ = _forward(series)
    return mean, spread


def _turns(readings: Any) -> int:
    return _TOGETHER if readings.shape[1] == 1 else 1


@jax.custom_vjp
def log_density(series: Series) -> Any:
    """Return the log density of the readings."""
    return _forward(series)[0][2]


def _forward(series: Series) -> tuple[Any, Any]:
    """Return next state, log density and last state; and each state before a reading."""
    loadings, _, _, mean, spread, errors, readings, read, moves = series

    def at_time(carry: Any, given: Any) -> tuple[Any, Any]:
        mean, spread, total, *_ = carry
        loadings, noises, values, there, move, own = given
        transition, steps = own or (series.transition, series.steps)
        before = []
        for at in range(len(values)):
            before.append((mean, spread))
            loading = loadings[at]
            lean = spread @ loading
            variance = loading @ lean + noises[at]
            error = values[at] - loading @ mean
            density = -0.5 * (error**2 / variance + jnp.log(2 * math.pi * variance))
            total = total + jnp.where(there[at], density, 0.0)
            weight = jnp.where(there[at], 1 / variance, 0.0)
            mean = mean + lean * (error * weight)
            spread = spread - lean[:, None] * (lean * weight)[None, :]
        next_spread = transition @ spread @ transition.T + steps
        # Rounding would make the matrix lean over in long series.
        next_spread = 0.5 * (next_spread + next_spread.T)
        next_mean = transition @ mean
        if move is not None:
            next_mean = jnp.where(move, next_mean, mean)
            next_spread = jnp.where(move, next_spread, spread)
        states = tuple(map(jnp.stack, zip(*before, strict=True)))
        return (next_mean, next_spread, total, mean, spread), states

    start = mean, spread, jnp.zeros(()), mean, spread
    over = loadings, errors**2, readings, read, moves, _own_moves(series)
    return jax.lax.scan(at_time, start, over, unroll=_turns(readings))


def _own_moves(series: Series) -> tuple[Any, Any] | None:
    """Return transition and steps if they differ from time to time."""
    return (series.transition, series.steps) if series.transition.ndim == 3 else None


def _with_record(series: Series) -> tuple[Any, Any]:
    (_, _, total, *_), states = _forward(series)
    return total, (series, states)


def _back(kept: Any, slope: Any) -> tuple[Series]:
    """Return derivatives in all parts of the series."""
    series, (means, spreads) = kept
    count = series.readings.shape[1]
    taken = _taken(series, means, spreads)

    def at_time(carry: Any, given: Any) -> tuple[Any, Any]:
        next_mean, next_spread = carry
        found, loadings, move, own = given
        transition = own[0] if own else series.transition
        of_mean = transition.T @ next_mean
        of_spread = transition.T @ next_spread @ transition
        if move is not None:
            of_mean = jnp.where(move, of_mean, next_mean)
            of_spread = jnp.where(move, of_spread, next_spread)
        slopes = []
        for at in reversed(range(count)):
            loading = loadings[at]
            lean, error, weight = found.leans[at], found.errors[at], found.weights[at]
            along = of_mean @ lean
            bent = of_spread @ lean
            of_error = weight * (along - slope * error)
            of_variance = weight * (
                weight * (lean @ bent - along * error + 0.5 * slope * error**2) - 0.5 * slope
            )
            of_lean = weight * (error * of_mean - 2 * bent) + of_variance * loading
            half = 0.5 * of_lean
            of_spread = of_spread + half[:, None] * loading + loading[:, None] * half
            of_mean = of_mean - of_error * loading
            slopes.append((of_error, of_variance, of_lean))
        each = tuple(map(jnp.stack, zip(*slopes[::-1], strict=True)))
        return (of_mean, of_spread), (next_mean, next_spread, *each)

    zero = jnp.zeros_like(series.mean), jnp.zeros_like(series.spread)
    over = taken, series.loadings, series.moves, _own_moves(series)
    turns = _turns(series.readings)
    (of_mean, of_spread), found = jax.lax.scan(at_time, zero, over, reverse=True, unroll=turns)
    next_means, next_spreads, of_errors, of_variances, of_leans = found
    if series.moves is not None:
        # Where the state stays, neither transition nor steps have any part.
        next_means = jnp.where(series.moves[:, None], next_means, 0.0)
        next_spreads = jnp.where(series.moves[:, None, None], next_spreads, 0.0)
    last_means, last_spreads = _after(taken)
    of_loadings = (
        of_variances[:, :, None] * taken.leans
        - of_errors[:, :, None] * taken.means
        + jnp.einsum("tkij,tkj->tki", taken.spreads, of_leans)
    )
    of_transition, of_steps = _of_moves(series, next_means, next_spreads, last_means, last_spreads)
    return (
        Series(
            loadings=of_loadings,
            transition=of_transition,
            steps=of_steps,
            mean=of_mean,
            spread=of_spread,
            errors=2 * series.errors * of_variances,
            readings=of_errors,
            read=None,
            moves=None,
        ),
    )


def _of_moves(
    series: Series, next_means: Any, next_spreads: Any, last_means: Any, last_spreads: Any
) -> tuple[Any, Any]:
    """Return derivatives in transition and steps, of all times or of each."""
    if series.transition.ndim == 3:
        around = 2 * next_spreads @ series.transition @ last_spreads
        return around + next_means[:, :, None] * last_means[:, None], next_spreads
    n = len(series.mean)
    bent = (next_spreads @ series.transition).transpose(0, 2, 1).reshape(-1, n)
    of_transition = 2 * bent.T @ last_spreads.reshape(-1, n) + next_means.T @ last_means
    return of_transition, next_spreads.sum(axis=0)


def _taken(series: Series, means: Any, spreads: Any) -> _Taken:
    """Work out again, for all times at once, what each reading found."""
    leans = jnp.einsum("tkij,tkj->tki", spreads, series.loadings)
    variances = jnp.einsum("tki,tki->tk", leans, series.loadings) + series.errors**2
    errors = series.readings - jnp.einsum("tki,tki->tk", means, series.loadings)
    return _Taken(
        means=means,
        spreads=spreads,
        leans=leans,
        variances=variances,
        errors=jnp.where(series.read, errors, 0.0),
        weights=jnp.where(series.read, 1 / variances, 0.0),
    )


def _after(taken: _Taken) -> tuple[Any, Any]:
    """Return mean and covariance of each state after all readings of its time."""
    lean, weight = taken.leans[:, -1], taken.weights[:, -1]
    means = taken.means[:, -1] + lean * (taken.errors[:, -1] * weight)[:, None]
    spreads = taken.spreads[:, -1] - lean[:, :, None] * (lean * weight[:, None])[:, None, :]
    return means, spreads


log_density.defvjp(_with_record, _back)


def kalman_log_density(**parts: Any) -> Any:
    """Return the log density of a `Series` of these parts."""
    return log_density(Series(**parts))
