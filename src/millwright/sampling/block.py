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

from millwright.sampling.compiling import compiled
from millwright.sampling.target import Target
from millwright.sampling.trajectory import DEEPEST, Point, transition

__all__ = [
    "STATISTICS",
    "Block",
    "Moments",
    "Settings",
    "State",
    "StepSize",
    "block_for",
    "block_length",
    "padded",
]

STATISTICS = ("log_density", "acceptance", "steps", "depth", "divergent", "energy", "step_size")
"""What is recorded for each transition, in the order of the columns."""


class State(NamedTuple):
    """Where a chain is: position and gradient of shape (dimension,), and log density.

    The gradient is that of the standardised coordinates, S' g for positions q = S z.
    """

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


class Moments(NamedTuple):
    """Running count, mean and sum of squared deviations of the draws (Welford 1962)."""

    count: Any
    mean: Any
    squares: Any

    @classmethod
    def none(cls, dimension: int) -> Moments:
        """Return the moments of no draws."""
        return cls(np.float64(0), np.zeros(dimension), np.zeros(dimension))


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
    ends
        Where the last good leapfrog step of each transition ended, shape (count, dimension):
        for one that diverged, the place of the trouble.
    """

    state: State
    step_size: StepSize
    moments: Moments
    draws: np.ndarray
    statistics: np.ndarray
    ends: np.ndarray


def padded(values: np.ndarray, length: int) -> np.ndarray:
    """Return an array with zeros after its rows, so that blocks of any length share code."""
    result = np.zeros((length, *values.shape[1:]), values.dtype)
    result[: len(values)] = values
    return result


def block_length(dimension: int) -> int:
    """Return the most transitions of one block, by memory: about 16 MB of draws."""
    return int(np.clip(2_000_000 // dimension, 8, 100))


def block_for(
    target: Target, dense: bool = False
) -> Callable[[State, StepSize, Moments, Settings, Any, Any], Block]:
    """Return the compiled block function of a target, for a diagonal or a dense metric.

    Its arguments are the state, the step size's state, the moments so far, the settings,
    standard normal momenta of shape (count, dimension) and 64-bit seeds of shape (count,).
    """
    length = block_length(target.dimension)
    arguments = jax.device_put(target.arguments)
    empty = np.zeros(target.dimension)
    scale = np.eye(target.dimension) if dense else empty
    example = (
        State(empty, empty, np.float64(0)),
        StepSize.starting_at(1.0),
        Moments.none(target.dimension),
        Settings(np.int64(0), np.bool_(True), scale, np.float64(0), np.int32(0)),
        np.zeros((length, target.dimension)),
        np.zeros(length, dtype=np.uint64),
        arguments,
    )
    executable = compiled(_block, target.key, example)

    def run(
        state: State,
        step_size: StepSize,
        moments: Moments,
        settings: Settings,
        momenta: Any,
        seeds: Any,
    ) -> Block:
        count = int(settings.count)
        many = padded(momenta, length), padded(seeds, length)
        result = executable(state, step_size, moments, settings, *many, arguments)
        state, step_size, moments, *kept = jax.tree.map(np.asarray, result)
        draws, statistics, ends = (found[:count] for found in kept)
        return Block(state, step_size, moments, draws, statistics, ends)

    return run


def _block(
    log_density: Callable[[Any, Any], Any],
    state: State,
    step_size: StepSize,
    moments: Moments,
    settings: Settings,
    momenta: Array,
    seeds: Array,
    arguments: Any,
) -> tuple[State, StepSize, Moments, Array, Array, Array]:
    value_and_gradient = jax.value_and_grad(lambda q: log_density(q, arguments))
    scale = settings.scale
    max_depth = jnp.minimum(settings.max_depth, DEEPEST)
    begin = Point(state.q, state.gradient, state.log_density, jnp.asarray(0.0))

    def one(carry: tuple[Any, ...]) -> tuple[Any, ...]:
        at, point, adaptation, learned, draws, statistics, ends = carry
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
        ends = lax.dynamic_update_index_in_dim(ends, moved.end, at, 0)
        learned = _with_draw(learned, moved.point.q)
        return at + 1, moved.point, adapted, learned, draws, statistics, ends

    carry = (
        jnp.asarray(0),
        begin,
        step_size,
        moments,
        jnp.zeros_like(momenta),
        jnp.zeros((momenta.shape[0], len(STATISTICS))),
        jnp.zeros_like(momenta),
    )
    _, point, step_size, moments, draws, statistics, ends = lax.while_loop(
        lambda carry: carry[0] < settings.count, one, carry
    )
    state = State(point.q, point.gradient, point.log_density)
    return state, step_size, moments, draws, statistics, ends


def _with_draw(moments: Moments, q: Array) -> Moments:
    count = moments.count + 1.0
    step = q - moments.mean
    mean = moments.mean + step / count
    return Moments(count, mean, moments.squares + step * (q - mean))


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
