"""Compiled random walks, at one temperature or at several that exchange their points."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np

from millwright.distributions.mathematics import Array
from millwright.sampling.block import padded
from millwright.sampling.compiling import compiled, on_device
from millwright.sampling.target import TargetDensity

__all__ = ["Walked", "walk_for", "walk_length"]


class Walked(NamedTuple):
    """Result of a block of kept draws.

    Attributes
    ----------
    position, log_density, log_scale
        State at the end.
    draws, values
        Kept positions, shape (count, dimension), and their log densities.
    accepted
        Mean acceptance probability of the steps of each draw, shape (count,).
    """

    position: Any
    log_density: Any
    log_scale: Any
    draws: np.ndarray
    values: np.ndarray
    accepted: np.ndarray


def walk_length(dimension: int, steps: int) -> int:
    """Return the most kept draws of one block, by memory: about 8 MB of steps."""
    return int(np.clip(1_000_000 // (dimension * steps), 1, 10_000))


def walk_for(target: TargetDensity, steps: int) -> Callable[..., Walked]:
    """Return the compiled block of a walk with `steps` steps for each kept draw.

    Its arguments are position, log density, log scale, step directions of shape
    (count, steps, dimension), logarithms of uniform numbers (count, steps), the number of the
    first step in its window, the wanted acceptance, and whether the scale adapts.
    """
    length = walk_length(target.dimension, steps)
    arguments = on_device(target.arguments)
    number = np.float64(0)
    example = (
        np.zeros(target.dimension),
        number,
        number,
        np.zeros((length, steps, target.dimension)),
        np.zeros((length, steps)),
        np.int64(0),
        np.int64(0),
        number,
        np.bool_(True),
        arguments,
    )
    executable = compiled(_walk, target.key, example)

    def run(
        position: Any,
        log_density: Any,
        log_scale: Any,
        noise: np.ndarray,
        chances: np.ndarray,
        at: int,
        wanted: float,
        adapting: bool,
    ) -> Walked:
        count = len(noise)
        result = executable(
            position,
            np.float64(log_density),
            np.float64(log_scale),
            padded(noise, length),
            padded(chances, length),
            np.int64(count),
            np.int64(at),
            np.float64(wanted),
            np.bool_(adapting),
            arguments,
        )
        position, log_density, log_scale, *kept = map(np.asarray, result)
        draws, values, accepted = (found[:count] for found in kept)
        return Walked(position, log_density, log_scale, draws, values, accepted)

    return run


def _walk(
    log_density: Callable[[Any, Any], Any],
    position: Array,
    value: Array,
    log_scale: Array,
    noise: Array,
    chances: Array,
    count: Array,
    at: Array,
    wanted: Array,
    adapting: Array,
    arguments: Any,
) -> tuple[Array, ...]:
    import jax.numpy as jnp
    from jax import lax

    steps = noise.shape[1]

    def one_step(inner: int, carry: tuple[Array, ...]) -> tuple[Array, ...]:
        position, value, log_scale, total, draw = carry
        candidate = position + jnp.exp(log_scale) * noise[draw, inner]
        there = log_density(candidate, arguments)
        # Neither what is no number nor what rounding puts beyond all numbers is a place.
        there = jnp.where(there < jnp.inf, there, -jnp.inf)
        log_ratio = jnp.minimum(0.0, there - value)
        taken = chances[draw, inner] < log_ratio
        accepted = jnp.exp(log_ratio)
        rate = 1 / jnp.sqrt(1 + (at + draw) * steps / 10)
        moved = log_scale + rate * (accepted - wanted)
        return (
            jnp.where(taken, candidate, position),
            jnp.where(taken, there, value),
            jnp.where(adapting, moved, log_scale),
            total + accepted,
            draw,
        )

    def one_draw(carry: tuple[Array, ...]) -> tuple[Array, ...]:
        draw, position, value, log_scale, draws, values, accepted = carry
        start = (position, value, log_scale, jnp.asarray(0.0), draw)
        position, value, log_scale, total, _ = lax.fori_loop(0, steps, one_step, start)
        return (
            draw + 1,
            position,
            value,
            log_scale,
            lax.dynamic_update_index_in_dim(draws, position, draw, 0),
            values.at[draw].set(value),
            accepted.at[draw].set(total / steps),
        )

    length = noise.shape[0]
    carry: tuple[Array, ...] = (
        jnp.asarray(0, count.dtype),
        position,
        value,
        log_scale,
        jnp.zeros((length, position.shape[0])),
        jnp.zeros(length),
        jnp.zeros(length),
    )
    return lax.while_loop(lambda carry: carry[0] < count, one_draw, carry)[1:]
