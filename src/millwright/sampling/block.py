"""A compiled block of transitions: the unit of work of a chain.

One executable serves warm-up and sampling with any number of transitions up to the block's
length, so a fit compiles once; between blocks the host reports, cancels and stores.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np

from millwright.sampling.compiling import compiled, on_device
from millwright.sampling.target import Target

__all__ = [
    "Block",
    "Moments",
    "Settings",
    "State",
    "StepSize",
    "block_for",
    "block_length",
    "padded",
]


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
    # JAX, which this is written in, takes a second to load: results are read without it.
    from millwright.sampling.transitions import block_of_transitions

    length = block_length(target.dimension)
    arguments = on_device(target.arguments)
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
    executable = compiled(block_of_transitions, target.key, example)

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
        state, step_size, moments = (type(part)(*map(np.asarray, part)) for part in result[:3])
        draws, statistics, ends = (np.asarray(kept)[:count] for kept in result[3:])
        return Block(state, step_size, moments, draws, statistics, ends)

    return run
