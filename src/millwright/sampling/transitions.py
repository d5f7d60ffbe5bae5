"""Transitions in a row with their adaptation, written for JAX to compile."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import jax.numpy as jnp
from jax import Array, lax

from millwright.sampling.block_tuples import Moments, PhasePoint, Settings, StepSize
from millwright.sampling.methods import DEEPEST
from millwright.sampling.piece import STATISTICS
from millwright.sampling.slope import value_and_gradient
from millwright.sampling.trajectory import Point, transition

__all__ = ["adapted", "block_of_transitions"]


def block_of_transitions(
    log_density: Callable[[Any, Any], Any],
    state: PhasePoint,
    step_size: StepSize,
    moments: Moments,
    settings: Settings,
    momenta: Array,
    seeds: Array,
    arguments: Any,
) -> tuple[PhasePoint, StepSize, Moments, Array, Array, Array, Array]:
    """Return the state, what was learned, and what `TransitionBlock` keeps; to be compiled.

    The arguments after `log_density` are those of `block_for`, and the target's own. As many
    transitions are made as `settings.count` says; rows beyond it stay zero.
    """
    scale = settings.scale
    max_depth = jnp.minimum(settings.max_depth, DEEPEST)

    def slope(q: Array) -> Any:
        return value_and_gradient(log_density, q, arguments)

    begin = Point(state.q, state.gradient, state.log_density, jnp.asarray(0.0))

    def one(carry: tuple[Any, ...]) -> tuple[Any, ...]:
        at, point, adaptation, learned, draws, gradients, statistics, ends = carry
        size = jnp.exp(jnp.where(settings.adapting, adaptation.log_step, adaptation.log_mean))
        momentum, seed = (
            lax.dynamic_index_in_dim(x, at, keepdims=False) for x in (momenta, seeds)
        )
        moved = transition(slope, point, momentum, seed, size, scale, max_depth)
        row = jnp.stack(
            [
                moved.point.log_density,
                moved.acceptance,
                moved.steps.astype(jnp.float64),
                moved.depth.astype(jnp.float64),
                moved.diverging.astype(jnp.float64),
                moved.point.energy,
                size,
            ]
        )
        learned_size = adapted(
            adaptation, moved.acceptance, settings.adapting, settings.target_acceptance
        )
        draws = lax.dynamic_update_index_in_dim(draws, moved.point.q, at, 0)
        gradients = lax.dynamic_update_index_in_dim(gradients, moved.point.gradient, at, 0)
        statistics = lax.dynamic_update_index_in_dim(statistics, row, at, 0)
        ends = lax.dynamic_update_index_in_dim(ends, moved.end, at, 0)
        learned = _with_draw(learned, moved.point.q)
        kept = draws, gradients, statistics, ends
        return at + 1, moved.point, learned_size, learned, *kept

    carry = (
        jnp.asarray(0),
        begin,
        step_size,
        moments,
        jnp.zeros_like(momenta),
        jnp.zeros_like(momenta),
        jnp.zeros((momenta.shape[0], len(STATISTICS))),
        jnp.zeros_like(momenta),
    )
    _, point, step_size, moments, draws, gradients, statistics, ends = lax.while_loop(
        lambda carry: carry[0] < settings.count, one, carry
    )
    state = PhasePoint(point.q, point.gradient, point.log_density)
    return state, step_size, moments, draws, gradients, statistics, ends


def _with_draw(moments: Moments, q: Array) -> Moments:
    count = moments.count + 1.0
    step = q - moments.mean
    mean = moments.mean + step / count
    return Moments(count, mean, moments.squares + step * (q - mean))


def adapted(
    before: StepSize, acceptance: Array, adapting: Array, target: Array | float
) -> StepSize:
    """One update of dual averaging with gamma = 0.1, t0 = 10, kappa = 0.75.

    With the usual gamma of 0.05 the step size swings so far that its mean is too small."""
    count = before.count + 1.0
    share = 1.0 / (count + 10.0)
    error = (1.0 - share) * before.error + share * (target - acceptance)
    log_step = before.centre - jnp.sqrt(count) / 0.1 * error
    weight = count**-0.75
    log_mean = weight * log_step + (1.0 - weight) * before.log_mean
    after = StepSize(before.centre, log_step, log_mean, error, count)
    return StepSize(*(jnp.where(adapting, a, b) for a, b in zip(after, before, strict=True)))
