"""A compiled block of transitions: the unit of work of a chain.

One executable serves warm-up and sampling with any number of transitions up to the block's
length, so a fit compiles once; between blocks the host reports, cancels and stores.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np

from millwright.sampling.block_tuples import Moments, PhasePoint, Settings, StepSize
from millwright.sampling.compiling import compiled, on_device
from millwright.sampling.target import TargetDensity

__all__ = ["TransitionBlock", "block_for", "block_length", "padded"]


class TransitionBlock(NamedTuple):
    """Result of a block of `count` transitions.

    Attributes
    ----------
    draws
        Positions, float64 of shape (count, dimension).
    gradients
        At the draws, in standardised coordinates as in `PhasePoint`, shape (count, dimension).
    statistics
        float64 of shape (count, 7), columns as in `STATISTICS`.
    ends
        Where the last good leapfrog step of each transition ended, shape (count, dimension):
        for one that diverged, the place of the trouble.
    """

    state: PhasePoint
    step_size: StepSize
    moments: Moments
    draws: np.ndarray
    gradients: np.ndarray
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
    target: TargetDensity, dense: bool = False
) -> Callable[[PhasePoint, StepSize, Moments, Settings, Any, Any], TransitionBlock]:
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
        PhasePoint(empty, empty, np.float64(0)),
        StepSize.starting_at(1.0),
        Moments.none(target.dimension),
        Settings(np.int64(0), np.bool_(True), scale, np.float64(0), np.int32(0)),
        np.zeros((length, target.dimension)),
        np.zeros(length, dtype=np.uint64),
        arguments,
    )
    executable = compiled(block_of_transitions, target.key, example)

    def run(
        state: PhasePoint,
        step_size: StepSize,
        moments: Moments,
        settings: Settings,
        momenta: Any,
        seeds: Any,
    ) -> TransitionBlock:
        count = int(settings.count)
        many = padded(momenta, length), padded(seeds, length)
        result = executable(state, step_size, moments, settings, *many, arguments)
        state, step_size, moments = (type(part)(*map(np.asarray, part)) for part in result[:3])
        kept = (np.asarray(each)[:count] for each in result[3:])
        return TransitionBlock(state, step_size, moments, *kept)

    return run
