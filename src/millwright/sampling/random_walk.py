"""Random-walk Metropolis, compiled: each chain is a unit.

Each kept draw is the last of several steps around the present point.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from millwright.sampling.methods import RandomWalk
from millwright.sampling.piece import STATISTICS, Piece, path_of, thinned_statistics
from millwright.sampling.sampler import FitSettings
from millwright.sampling.state import Generators, restored, widths
from millwright.sampling.target import TargetDensity
from millwright.sampling.walk_block import Walked, walk_for, walk_length
from millwright.sampling.walking import (
    acceptance_for,
    first_factor,
    first_scale,
    learned_factor,
    steps_for,
    walk_start,
)
from millwright.sampling.windowed import WindowedSampler, WindowedState, closed

__all__ = ["RandomWalkSampler", "WalkState", "step_noise"]


@dataclass(frozen=True, kw_only=True)
class WalkState(WindowedState):
    """Where a walk is, and the proposals that it has learned.

    Attributes
    ----------
    factor, log_scale
        Steps are exp(log_scale) times factor times noise; `factor` has shape
        (dimension, dimension).
    noise, chances, lengths
        States of the random generators: directions, decisions, lengths of Student-t steps.
    """

    position: np.ndarray
    log_density: float
    factor: np.ndarray
    log_scale: float
    noise: Generators
    chances: Generators
    lengths: Generators

    @property
    def scales(self) -> list[np.ndarray]:
        """Standard deviations of the steps' covariance."""
        return [widths(self.factor)]

    @property
    def place(self) -> tuple[np.ndarray, float]:
        """The point with its log density."""
        return self.position, self.log_density


class RandomWalkSampler(WindowedSampler[WalkState, RandomWalk]):
    """Random-walk Metropolis on a traceable target."""

    def __init__(
        self,
        target: TargetDensity,
        settings: FitSettings,
        chains: int,
        seed: int,
        method: RandomWalk,
    ) -> None:
        self.steps = method.steps or steps_for(target.dimension)
        longest = walk_length(target.dimension, self.steps)
        super().__init__(target, settings, chains, seed, method, longest, self.steps)
        self.wanted = method.acceptance or acceptance_for(target.dimension)

    @cached_property
    def walk(self) -> Callable[..., Walked]:
        """The compiled block."""
        return walk_for(self.target, self.steps)

    def prepare(self) -> None:
        """Compile the block."""
        _ = self.walk

    def start(self, unit: int) -> WalkState:
        """Take the likeliest of a few points drawn from the prior."""
        children = np.random.SeedSequence(self.seed, spawn_key=(unit,)).spawn(4)
        starts, noise, chances, lengths = map(np.random.default_rng, children)
        points, values, spread = walk_start(self.method, self.target, starts, self.seed, unit)
        dimension = self.target.dimension
        return WalkState(
            unit=unit,
            position=points[0],
            log_density=float(values[0]),
            factor=first_factor(self.method, self.target, self.seed, spread),
            log_scale=first_scale(dimension),
            window_draws=np.zeros((0, dimension)),
            noise=noise.bit_generator.state,
            chances=chances.bit_generator.state,
            lengths=lengths.bit_generator.state,
        )

    def report(self, state: WalkState) -> tuple[dict[str, Any], ...]:
        """Return the scale and cost of the chain's proposals."""
        step_size = float(np.exp(state.log_scale))
        wanted = self.wanted
        return (
            self._report(state, step_size=step_size, target_acceptance=wanted, metric="dense"),
        )

    def _walked(self, state: WalkState, count: int, adapting: bool) -> tuple[WalkState, Walked]:
        shape = (count, self.steps)
        noise, bits = step_noise(state.noise, state.lengths, shape, state.factor, self.method)
        chances = restored(state.chances)
        log_chances = np.log(chances.random(shape))
        walked = self.walk(
            state.position,
            state.log_density,
            state.log_scale,
            noise,
            log_chances,
            state.within,
            self.wanted,
            adapting,
        )
        state = replace(
            state,
            done=state.done + count,
            position=walked.position,
            log_density=float(walked.log_density),
            log_scale=float(walked.log_scale),
            noise=bits[0],
            lengths=bits[1],
            chances=chances.bit_generator.state,
        )
        return state, walked

    def _warm_up(self, state: WalkState) -> tuple[WalkState, tuple[Piece, ...]]:
        window = self.windows[state.window]
        count = min(self.pace.of(state.unit), window.length - state.within)
        state, walked = self._walked(state, count, True)
        kept = np.concatenate([state.window_draws, walked.draws])
        state = replace(state, within=state.within + count, window_draws=kept)
        rows = _rows(walked, self.steps, state.log_scale)
        if state.within == window.length:
            learned: dict[str, Any] = {}
            if window.metric and self.method.learns:
                factor = learned_factor(kept, state.factor)
                if factor is not state.factor:
                    learned = {
                        "factor": factor,
                        "log_scale": first_scale(self.target.dimension),
                    }
            state = closed(state, **learned)
        piece = Piece.empty(self.target.dimension)
        return state, (replace(piece, warmup=rows, path=path_of(walked.draws)),)

    def _draw(self, state: WalkState) -> tuple[WalkState, tuple[Piece, ...]]:
        thin = self.settings.thin
        wanted = self._next_draws(state)
        found: list[Walked] = []
        while wanted:
            count = min(wanted, self.longest)
            state, walked = self._walked(state, count, False)
            found.append(walked)
            wanted -= count
        draws = np.concatenate([walked.draws for walked in found])
        rows = np.concatenate([_rows(walked, self.steps, state.log_scale) for walked in found])
        piece = Piece.empty(self.target.dimension)
        kept = thinned_statistics(rows, thin)
        return state, (replace(piece, positions=draws[thin - 1 :: thin], statistics=kept),)


def step_noise(
    noise: Generators,
    lengths: Generators,
    shape: tuple[int, ...],
    factor: np.ndarray,
    method: RandomWalk,
) -> tuple[np.ndarray, tuple[Generators, Generators]]:
    """Draw the directions of steps, shape (*shape, dimension); return the generators' states."""
    normal, chi = restored(noise), restored(lengths)
    steps = normal.standard_normal((*shape, len(factor)))
    # One row at a time, so that the answer does not depend on how many there are.
    steps = np.einsum("ij,...j->...i", factor, steps)
    if method.proposal == "student_t":
        squares = 2.0 * chi.standard_gamma(method.df / 2, shape)
        steps = steps * np.sqrt(method.df / squares)[..., None]
    return steps, (normal.bit_generator.state, chi.bit_generator.state)


def _rows(walked: Walked, steps: int, log_scale: float) -> np.ndarray:
    """Return the statistics of a block; a walk has no energy and no depth."""
    count = len(walked.values)
    columns = {
        "log_density": walked.values,
        "acceptance": walked.accepted,
        "evaluations": np.full(count, float(steps)),
        "doublings": np.zeros(count),
        "diverged": np.zeros(count),
        "energy": np.full(count, np.nan),
        "step_size": np.full(count, np.exp(log_scale)),
    }
    return np.stack([columns[name] for name in STATISTICS], axis=1)
