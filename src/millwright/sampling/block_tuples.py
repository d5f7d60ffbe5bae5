"""What passes in and out of a compiled block of transitions."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

__all__ = ["Moments", "PhasePoint", "Settings", "StepSize"]


class PhasePoint(NamedTuple):
    """Where a chain is: position and gradient of shape (dimension,), and log density.

    The gradient is that of the standardised coordinates, S' g for positions q = S z.
    """

    q: Any
    gradient: Any
    log_density: Any


_SMALLEST = 1e-300


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
        # Where no step is taken at all the size falls to nothing.
        log_step = float(np.log(max(step_size, _SMALLEST)))
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
