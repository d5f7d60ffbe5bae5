"""A compiled block of transitions: the unit of work of a chain.

One executable serves warm-up and sampling with any number of transitions up to the block's
length, so a fit compiles once; between blocks the host reports, cancels and stores.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

import jax
import jax.numpy as jnp
import numpy as np
from jax import Array, lax
from jax.scipy.linalg import solve_triangular

from millwright.sampling.compiling import compiled
from millwright.sampling.target import Target
from millwright.sampling.trajectory import DEEPEST, Point, shrunk, transition

__all__ = ["STATISTICS", "Block", "Settings", "State", "StepSize", "block_for"]

STATISTICS = ("log_density", "acceptance", "steps", "depth", "diverging", "energy", "step_size")
"""What is recorded for each transition, in the order of the columns."""


class State(NamedTuple):
    """Where a chain is: position and gradient of shape (dimension,), and log density."""

    q: Any
    gradient: Any
    log_density: Any


class StepSize(NamedTuple):
    """State of the dual averaging of the step size (Hoffman and Gelman 2014, section 3.2.1)."""

    centre: Any
    log_step: Any
    log_mean: Any
    error: Any
    count: Any

    @classmethod
    def starting_at(cls, step_size: float, reach: float = 1.0) -> StepSize:
        """Return the state that explores from `step_size`, first towards `reach` times it."""
        log_step = float(np.log(step_size))
        centre = np.log(reach) + log_step
        return cls(*(np.float64(v) for v in (centre, log_step, log_step, 0, 0)))


class Settings(NamedTuple):
    """Numbers that change between blocks without compiling."""

    count: Any
    adapting: Any
    scale: Any
    target_acceptance: Any
    max_depth: Any


class Block(NamedTuple):
    """Result of a block of `count` transitions.

    Attributes
    ----------
    draws
        Positions, float64 of shape (count, dimension).
    statistics
        float64 of shape (count, 7), columns as in `STATISTICS`.
    """

    state: State
    step_size: StepSize
    draws: np.ndarray
    statistics: np.ndarray


def block_length(dimension: int) -> int:
    """Return the most transitions of one block, by memory: about 16 MB of draws."""
    return int(np.clip(2_000_000 // dimension, 8, 100))


def block_for(
    target: Target, dense: bool = False
) -> Callable[[State, StepSize, Settings, Any, Any], Block]:
    """Return the compiled block function of a target, for a diagonal or a dense metric.

    Its arguments are the state, the step size's state, the settings, standard normal momenta of
    shape (count, dimension) and 64-bit seeds of shape (count,).
    """
    length = block_length(target.dimension)
    arguments = jax.device_put(target.arguments)
    empty = np.zeros(target.dimension)
    scale = np.eye(target.dimension) if dense else empty
    example = (
        State(empty, empty, np.float64(0)),
        StepSize.starting_at(1.0),
        Settings(np.int64(0), np.bool_(True), scale, np.float64(0), np.int32(0)),
        np.zeros((length, target.dimension)),
        np.zeros(length, dtype=np.uint64),
        arguments,
    )
    executable = compiled(_block, target.key, example)

    def run(
        state: State, step_size: StepSize, settings: Settings, momenta: Any, seeds: Any
    ) -> Block:
        count = int(settings.count)
        padded = np.zeros((length, target.dimension))
        padded[:count] = momenta
        padded_seeds = np.zeros(length, dtype=np.uint64)
        padded_seeds[:count] = seeds
        result = executable(state, step_size, settings, padded, padded_seeds, arguments)
        state, step_size, draws, statistics = jax.tree.map(np.asarray, result)
        return Block(state, step_size, draws[:count], statistics[:count])

    return run


def _block(
    log_density: Callable[[Any, Any], Any],
    state: State,
    step_size: StepSize,
    settings: Settings,
    momenta: Array,
    seeds: Array,
    arguments: Any,
) -> tuple[State, StepSize, Array, Array]:
    value_and_gradient = jax.value_and_grad(lambda q: log_density(q, arguments))
    scale = settings.scale
    max_depth = jnp.minimum(settings.max_depth, DEEPEST)
    begin = Point(state.q, shrunk(scale, state.gradient), state.log_density, jnp.asarray(0.0))

    def one(carry: tuple[Any, ...]) -> tuple[Any, ...]:
        at, point, adaptation, draws, statistics = carry
        size = jnp.exp(jnp.where(settings.adapting, adaptation.log_step, adaptation.log_mean))
        momentum, seed = (
            lax.dynamic_index_in_dim(x, at, keepdims=False) for x in (momenta, seeds)
        )
        moved = transition(value_and_gradient, point, momentum, seed, size, scale, max_depth)
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
        adapted = _adapt(adaptation, moved.acceptance, settings)
        draws = lax.dynamic_update_index_in_dim(draws, moved.point.q, at, 0)
        statistics = lax.dynamic_update_index_in_dim(statistics, row, at, 0)
        return at + 1, moved.point, adapted, draws, statistics

    carry = (
        jnp.asarray(0),
        begin,
        step_size,
        jnp.zeros_like(momenta),
        jnp.zeros((momenta.shape[0], len(STATISTICS))),
    )
    _, point, step_size, draws, statistics = lax.while_loop(
        lambda carry: carry[0] < settings.count, one, carry
    )
    gradient = _grown(scale, point.gradient)
    return State(point.q, gradient, point.log_density), step_size, draws, statistics


def _grown(scale: Array, gradient: Array) -> Array:
    """Undo `shrunk`."""
    if scale.ndim == 1:
        return gradient / scale
    return solve_triangular(scale, gradient, trans="T", lower=True)


def _adapt(before: StepSize, acceptance: Array, settings: Settings) -> StepSize:
    """One update of dual averaging with gamma = 0.1, t0 = 10, kappa = 0.75.

    With the usual gamma of 0.05 the step size swings so far that its mean is too small."""
    count = before.count + 1.0
    share = 1.0 / (count + 10.0)
    error = (1.0 - share) * before.error + share * (settings.target_acceptance - acceptance)
    log_step = before.centre - jnp.sqrt(count) / 0.1 * error
    weight = count**-0.75
    log_mean = weight * log_step + (1.0 - weight) * before.log_mean
    after = StepSize(before.centre, log_step, log_mean, error, count)
    return StepSize(
        *(jnp.where(settings.adapting, a, b) for a, b in zip(after, before, strict=True))
    )
