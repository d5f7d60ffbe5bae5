"""Where the chains of one data set are, and the random numbers that move them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from millwright.sampling.state import Generators, restored, widths
from millwright.sampling.streams import Stream, generator_of
from millwright.sampling.windowed import WindowedState

__all__ = ["LaneState", "StateNumbers", "TrialNumbers"]


@dataclass(frozen=True, kw_only=True)
class LaneState(WindowedState):
    """Where the chains of one data set are.

    Attributes
    ----------
    positions, gradients, log_densities
        Shapes (chains, dimension), twice, and (chains,); gradients in standardised coordinates.
    step_size
        The five numbers of the dual averaging.
    scale
        Cholesky factor of the metric's covariance.
    window_draws
        Shape (chains, draws, dimension).
    momenta, choices
        States of the two random generators.
    steps, divergences
        Leapfrog steps and, after warm-up, divergent transitions of each chain, shape (chains,).
    """

    positions: np.ndarray
    gradients: np.ndarray
    log_densities: np.ndarray
    step_size: np.ndarray
    scale: np.ndarray
    momenta: Generators
    choices: Generators
    steps: np.ndarray
    divergences: np.ndarray
    warmup_steps: np.ndarray

    @property
    def scales(self) -> list[np.ndarray]:
        """Standard deviations of the metric, for each chain."""
        return [widths(self.scale)] * len(self.positions)

    @property
    def place(self) -> tuple[np.ndarray, float]:
        """The first chain's point with its log density."""
        return self.positions[0], float(self.log_densities[0])


class StateNumbers:
    """The two random generators of a state, at work."""

    def __init__(self, state: LaneState) -> None:
        self.normal = restored(state.momenta)
        self.uniform = restored(state.choices)

    @property
    def momenta(self) -> Generators:
        """State of the generator of momenta."""
        return self.normal.bit_generator.state

    @property
    def choices(self) -> Generators:
        """State of the generator of choices."""
        return self.uniform.bit_generator.state


class TrialNumbers:
    """Random numbers for finding a step size after so many transitions."""

    def __init__(self, seed: int, done: int) -> None:
        self.normal = self.uniform = generator_of(seed, Stream.LANES, 2, done)
