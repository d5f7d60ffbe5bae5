"""The Kalman filter for any number of series at once, in NumPy or JAX.

Durbin and Koopman (2012), "Time Series Analysis by State Space Methods", section 4.3; readings of
one time go one after the other (section 6.4).
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np

from millwright.distributions.mathematics import Array, Mathematics

__all__ = ["Filtered", "System", "filtered"]


class System(NamedTuple):
    """How readings hang on a state; n readings, k entries of the state, `...` copies.

    Attributes
    ----------
    transition, steps
        state(t + 1) = transition state(t) + a step with the covariance `steps`, (..., k, k) each.
    loading
        Weights of the state in each reading, (..., n, k), or (..., 1, k).
    noise
        Variance of each reading around what it reads, (..., n), or (..., 1).
    mean, spread
        Mean (..., k) and covariance (..., k, k) of the first state.
    moves
        Whether the state moves on after each reading, (..., n).
    """

    transition: Array
    steps: Array
    loading: Array
    noise: Array
    mean: Array
    spread: Array
    moves: Array


class Filtered(NamedTuple):
    """What the filter finds, reading by reading, in the first axis.

    Attributes
    ----------
    errors, variances
        Each reading less its mean given those before, and that mean's variance with the noise,
        (n, ...).
    read
        Whether there was a reading, (n, ...).
    means, spreads
        Mean (n, ..., k) and covariance (n, ..., k, k) of each state given the readings up to its
        own.
    """

    errors: Array
    variances: Array
    read: Array
    means: Array
    spreads: Array

    def log_densities(self, m: Mathematics) -> Array:
        """Return the log density of each reading given those before, (n, ...); 0 of none."""
        squares = self.errors * self.errors / self.variances
        densities = -0.5 * (squares + m.log(2 * math.pi * self.variances))
        return m.where(self.read, densities, 0.0)


def filtered(m: Mathematics, values: Array, read: Array, system: System) -> Filtered:
    """Run the filter over readings (..., n) without gaps in number; `read` says which exist.

    Covariances do not hang on the readings, so that `values` and means may have more copies, in
    front, than the rest.
    """
    transition, steps, loading, noise, mean, spread, moves = system
    n, k = values.shape[-1], transition.shape[-1]
    copies = np.broadcast_shapes(
        read.shape[:-1],
        transition.shape[:-2],
        steps.shape[:-2],
        loading.shape[:-2],
        noise.shape[:-1],
        spread.shape[:-2],
        moves.shape[:-1],
    )
    more = np.broadcast_shapes(copies, values.shape[:-1], mean.shape[:-1])

    def in_time(part: Array, lead: tuple[int, ...], last: tuple[int, ...] = ()) -> Array:
        part = m.broadcast_to(part, (*lead, n, *last))
        return m.moveaxis(part, len(lead), 0)

    def update(carry: tuple[Array, Array], given: Any) -> tuple[tuple[Array, Array], Any]:
        mean, spread = carry
        y, there, weights, noise, move = given
        lean = m.einsum("...ij,...j->...i", spread, weights)
        variance = m.sum(weights * lean, axis=-1) + noise
        error = y - m.sum(weights * mean, axis=-1)
        share = m.where(there, 1 / variance, 0.0)
        mean = mean + lean * (error * share)[..., None]
        spread = spread - lean[..., :, None] * (lean * share[..., None])[..., None, :]
        next_mean = m.einsum("...ij,...j->...i", transition, mean)
        next_spread = transition @ spread @ m.swapaxes(transition, -1, -2) + steps
        # Rounding would make the matrix lean over in long series.
        next_spread = 0.5 * (next_spread + m.swapaxes(next_spread, -1, -2))
        next_mean = m.where(move[..., None], next_mean, mean)
        next_spread = m.where(move[..., None, None], next_spread, spread)
        return (next_mean, next_spread), (error, variance, there, mean, spread)

    first = (m.broadcast_to(mean, (*more, k)), m.broadcast_to(spread, (*copies, k, k)))
    over = (
        in_time(values, more),
        in_time(read, copies),
        in_time(loading, copies, (k,)),
        in_time(noise, copies),
        in_time(moves, copies),
    )
    _, found = m.scan(update, first, over)
    return Filtered(*found)
