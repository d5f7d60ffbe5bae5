"""Transitions of fixed-length trajectories, of many data sets in lock step, for JAX to compile.

Hamiltonian Monte Carlo with a jittered length (Neal 2011, "MCMC using Hamiltonian dynamics",
section 4.2): all lanes of a transition share the jitter, so that none waits long for another.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import jax
import jax.numpy as jnp
from jax import Array, lax

from millwright.sampling.block_tuples import StepSize
from millwright.sampling.lane_tuples import LanePoint, LaneSettings
from millwright.sampling.piece import STATISTICS
from millwright.sampling.slope import value_and_gradient
from millwright.sampling.transitions import adapted

__all__ = ["block_of_lanes"]

_LARGEST_ENERGY_ERROR = 1000.0


def _lane_values(log_density: Callable[[Any, Any], Any], positions: Array, arguments: Any) -> Any:
    """Return log densities (sets, chains) and gradients at positions (sets, chains, dimension)."""

    def both(position: Array, given: Any) -> Any:
        return value_and_gradient(log_density, position, given)

    return jax.vmap(jax.vmap(both, (0, None)))(positions, arguments)


def block_of_lanes(
    log_density: Callable[[Any, Any], Any],
    point: LanePoint,
    step_size: StepSize,
    settings: LaneSettings,
    momenta: Array,
    chances: Array,
    lengths: Array,
    arguments: Any,
) -> tuple[LanePoint, StepSize, Array, Array, Array]:
    """Return the state, the step sizes, and draws, statistics and ends; to be compiled.

    Parameters
    ----------
    point
        Shapes (sets, chains, dimension) and (sets, chains).
    step_size
        Each field of shape (sets,).
    momenta
        Standard normal, shape (block, sets, chains, dimension).
    chances
        From [0, 1), shape (block, sets, chains).
    lengths
        Lengths of the trajectories in standardised units, shape (block,).
    """

    def heights(positions: Array) -> tuple[Array, Array]:
        values, gradients = _lane_values(log_density, positions, arguments)
        values = jnp.where(jnp.isnan(values), -jnp.inf, values)
        # In standardised coordinates.
        return values, jnp.einsum("sij,sci->scj", settings.scale, gradients)

    def one(carry: tuple[Any, ...]) -> tuple[Any, ...]:
        at, here, adaptation, draws, statistics, ends = carry
        size = jnp.exp(jnp.where(settings.adapting, adaptation.log_step, adaptation.log_mean))
        momentum, chance = momenta[at], chances[at]
        steps = jnp.round(lengths[at] / size)
        steps = jnp.clip(steps, 1.0, settings.most_steps)
        moved = _trajectory(heights, here, momentum, size, steps, settings.scale)
        there, energy, end = moved
        begun = 0.5 * jnp.sum(momentum**2, axis=-1) - here.log_density
        error = energy - begun
        acceptance = jnp.where(jnp.isfinite(error), jnp.exp(jnp.minimum(-error, 0.0)), 0.0)
        taken = chance < acceptance
        after = LanePoint(
            jnp.where(taken[..., None], there.q, here.q),
            jnp.where(taken[..., None], there.gradient, here.gradient),
            jnp.where(taken, there.log_density, here.log_density),
        )
        diverged = ~(error < _LARGEST_ENERGY_ERROR)
        row = jnp.stack(
            [
                after.log_density,
                acceptance,
                jnp.broadcast_to(steps[:, None], acceptance.shape),
                jnp.zeros_like(acceptance),
                diverged.astype(jnp.float64),
                jnp.where(taken, energy, begun),
                jnp.broadcast_to(size[:, None], acceptance.shape),
            ],
            axis=-1,
        )
        # Over the chains: while they look for the bulk, a single stuck one must be freed.
        known = jnp.where(settings.cautious, acceptance.min(axis=1), acceptance.mean(axis=1))
        learned = adapted(adaptation, known, settings.adapting, settings.target_acceptance)
        draws = lax.dynamic_update_index_in_dim(draws, after.q, at, 0)
        statistics = lax.dynamic_update_index_in_dim(statistics, row, at, 0)
        ends = lax.dynamic_update_index_in_dim(ends, end, at, 0)
        return at + 1, after, learned, draws, statistics, ends

    carry = (
        jnp.asarray(0),
        point,
        step_size,
        jnp.zeros_like(momenta),
        jnp.zeros((*momenta.shape[:3], len(STATISTICS))),
        jnp.zeros_like(momenta),
    )
    _, point, step_size, draws, statistics, ends = lax.while_loop(
        lambda carry: carry[0] < settings.count, one, carry
    )
    return point, step_size, draws, statistics, ends


def _trajectory(
    heights: Callable[[Array], tuple[Array, Array]],
    begin: LanePoint,
    momentum: Array,
    size: Array,
    steps: Array,
    scale: Array,
) -> tuple[LanePoint, Array, Array]:
    """Make leapfrog steps; return where they end, the energy there and the last good place."""
    wide = size[:, None, None]

    def step(carry: tuple[Any, ...]) -> tuple[Any, ...]:
        at, here, p, end = carry
        half = p + 0.5 * wide * here.gradient
        q = here.q + wide * jnp.einsum("sij,scj->sci", scale, half)
        value, gradient = heights(q)
        whole = half + 0.5 * wide * gradient
        going = (at < steps)[:, None]
        good = (going & jnp.isfinite(value))[..., None]
        there = LanePoint(
            jnp.where(going[..., None], q, here.q),
            jnp.where(going[..., None], gradient, here.gradient),
            jnp.where(going, value, here.log_density),
        )
        return at + 1.0, there, jnp.where(going[..., None], whole, p), jnp.where(good, q, end)

    start = (jnp.asarray(0.0), begin, momentum, begin.q)
    _, there, p, end = lax.while_loop(lambda carry: carry[0] < jnp.max(steps), step, start)
    return there, 0.5 * jnp.sum(p**2, axis=-1) - there.log_density, end
