"""One chain of the no-U-turn sampler: start, warm-up, draws."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from threading import Event
from typing import Any, get_args

import numpy as np

from millwright.errors import ArgumentError, StartError
from millwright.sampling.block import (
    STATISTICS,
    Block,
    Settings,
    State,
    StepSize,
    block_for,
    block_length,
)
from millwright.sampling.progress import ChainProgress
from millwright.sampling.target import Target
from millwright.sampling.trajectory import DEEPEST
from millwright.sampling.warmup import Metric, dense_scale, plan, refined_scale, wants_dense

__all__ = ["Chain", "ChainResult", "FitSettings"]

_DIVERGING = STATISTICS.index("diverging")
_ACCEPTANCE = STATISTICS.index("acceptance")
_STEPS = STATISTICS.index("steps")
_SECONDS_PER_BLOCK = 0.2


@dataclass(frozen=True)
class FitSettings:
    """How to sample.

    Attributes
    ----------
    draws, warmup
        Kept and discarded transitions of each chain.
    target_acceptance
        Acceptance that the step size is adapted to; raised when warm-up keeps diverging.
    max_depth
        Most doublings of a trajectory: it has at most 2^max_depth leapfrog steps.
    metric
        Scales alone (`diagonal`), correlations too (`dense`), or as the warm-up suggests.
    """

    draws: int = 1000
    warmup: int = 1000
    target_acceptance: float = 0.8
    max_depth: int = 10
    metric: Metric = "automatic"

    def __post_init__(self) -> None:
        if self.metric not in get_args(Metric):
            raise ArgumentError(
                f"`metric` must be one of {', '.join(get_args(Metric))}, not {self.metric!r}."
            )
        if self.max_depth > DEEPEST:
            raise ArgumentError(f"`max_depth` is at most {DEEPEST}, not {self.max_depth}.")


@dataclass(frozen=True)
class ChainResult:
    """What a chain leaves.

    Attributes
    ----------
    positions
        Unconstrained draws, float64 of shape (draws, dimension).
    statistics
        One row a draw, columns as in `STATISTICS`; `warmup_statistics` likewise.
    scale
        Standard deviations of the metric, shape (dimension,).
    """

    positions: np.ndarray
    statistics: np.ndarray
    warmup_statistics: np.ndarray
    step_size: float
    scale: np.ndarray
    target_acceptance: float
    seconds: tuple[float, float]
    metric: str = "diagonal"


class Chain:
    """A chain that can be watched and stopped from another thread while it runs."""

    def __init__(
        self,
        target: Target,
        run_block: Callable[..., Block],
        settings: FitSettings,
        seed: int,
        number: int,
        stop: Event,
    ) -> None:
        self.target = target
        self.run_block = run_block
        self.settings = settings
        self.number = number
        self.stop = stop
        children = np.random.SeedSequence(seed, spawn_key=(number,)).spawn(3)
        self.starts, self.momenta, self.bits = map(np.random.default_rng, children)
        self.scale = self.deviations = np.ones(target.dimension)
        self.acceptance = settings.target_acceptance
        self.done = self.steps = self.divergences = 0
        self.dense = False
        self.count = 4

    @property
    def progress(self) -> ChainProgress:
        """How far the chain is."""
        settings = self.settings
        return ChainProgress(
            self.number,
            self.done < settings.warmup,
            self.done,
            settings.warmup + settings.draws,
            self.divergences,
            self.steps,
        )

    def run(self) -> ChainResult:
        """Run the chain to its end, or to the next block once `stop` is set."""
        began = time.perf_counter()
        state = self._start()
        state, step_size, warm = self._warm_up(state)
        warmed = time.perf_counter()
        draws, statistics, _, _ = self._many(state, step_size, self.settings.draws, False)
        return ChainResult(
            draws,
            statistics,
            warm,
            float(np.exp(step_size.log_mean)),
            self.deviations,
            self.acceptance,
            (warmed - began, time.perf_counter() - warmed),
            "dense" if self.scale.ndim == 2 else "diagonal",
        )

    def _start(self) -> State:
        """Find a starting point with a finite log density and gradient."""
        candidates = self.target.starts(self.starts, 200)
        self.scale = self.deviations = _spread(candidates)
        for position in candidates[:100]:
            state = self._evaluate(position)
            if np.isfinite(state.log_density) and np.isfinite(state.gradient).all():
                return state
        raise StartError(
            "No starting point: the log density was not finite at any of 100 points drawn from "
            f"the prior. {self.target.explain(candidates[:100])}"
        )

    def _evaluate(self, position: np.ndarray) -> State:
        """Return log density and gradient at a position.

        A trajectory of one step of length zero from a point of density zero always accepts,
        so the block needs no second gradient.
        """
        nowhere = State(position, np.zeros_like(position), np.float64(-np.inf))
        still = StepSize(*(np.float64(v) for v in (0, -np.inf, -np.inf, 0, 0)))
        return self._block(nowhere, still, 1, False, max_depth=1, fresh=False).state

    def _block(
        self,
        state: State,
        step_size: StepSize,
        count: int,
        adapting: bool,
        max_depth: int | None = None,
        fresh: bool = True,
    ) -> Block:
        dimension = self.target.dimension
        momenta: Any = np.zeros((count, dimension))
        seeds: Any = np.zeros(count, dtype=np.uint64)
        if fresh:
            momenta = self.momenta.standard_normal((count, dimension))
            seeds = self.bits.integers(0, 2**64, size=count, dtype=np.uint64)
        settings = Settings(
            np.int64(count),
            np.bool_(adapting),
            self.scale,
            np.float64(self.acceptance),
            np.int32(self.settings.max_depth if max_depth is None else max_depth),
        )
        return self.run_block(state, step_size, settings, momenta, seeds)

    def _warm_up(self, state: State) -> tuple[State, StepSize, np.ndarray]:
        step_size = StepSize.starting_at(self._first_step(state, 1.0), reach=10.0)
        kept: list[np.ndarray] = []
        for window in plan(self.settings.warmup):
            draws, statistics, state, step_size = self._many(state, step_size, window.length, True)
            kept.append(statistics)
            if window.metric and not self.stop.is_set():
                self._learn(draws)
                self._raise_acceptance(statistics)
                size = self._first_step(state, float(np.exp(step_size.log_mean)))
                # The size is about right by now: reaching further would only diverge.
                step_size = StepSize.starting_at(size, reach=2.0)
        empty = np.zeros((0, len(STATISTICS)))
        return state, step_size, np.concatenate([empty, *kept])

    def _learn(self, draws: np.ndarray) -> None:
        """Estimate the metric from a window; it turns dense where that pays, and stays so."""
        self.scale = self.deviations = refined_scale(draws, self.deviations)
        wanted = self.settings.metric
        self.dense = self.dense or (
            wanted == "dense" or (wanted == "automatic" and wants_dense(draws, self.deviations))
        )
        if self.dense:
            self.scale = dense_scale(draws, self.deviations)
            self.run_block = block_for(self.target, dense=True)

    def _raise_acceptance(self, statistics: np.ndarray) -> None:
        """Ask for smaller steps if the later half of a long enough window still diverged."""
        late = statistics[len(statistics) // 2 :, _DIVERGING]
        # A few divergences mean little: the step size is still swinging.
        if len(late) >= 50 and late.sum() >= max(3, 0.02 * len(late)) and self.acceptance < 0.98:
            self.acceptance += (1 - self.acceptance) / 2

    def _first_step(self, state: State, size: float) -> float:
        """Find a step size whose acceptance crosses one half (Hoffman and Gelman, alg. 4)."""
        rising = self._one_step_acceptance(state, size) > 0.5
        factor = 2.0 if rising else 0.5
        for _ in range(100):
            following = size * factor
            if (self._one_step_acceptance(state, following) > 0.5) != rising:
                return size if rising else following
            size = following
        return size

    def _one_step_acceptance(self, state: State, size: float) -> float:
        fixed = StepSize.starting_at(size)
        block = self._block(state, fixed, 1, False, max_depth=1)
        return float(block.statistics[0, _ACCEPTANCE])

    def _many(
        self, state: State, step_size: StepSize, total: int, adapting: bool
    ) -> tuple[np.ndarray, np.ndarray, State, StepSize]:
        """Run `total` transitions, in blocks short enough to report and to stop."""
        draws = np.empty((total, self.target.dimension))
        statistics = np.empty((total, len(STATISTICS)))
        at = 0
        longest = block_length(self.target.dimension)
        while at < total and not self.stop.is_set():
            began = time.perf_counter()
            block = self._block(state, step_size, min(self.count, total - at), adapting)
            n = len(block.draws)
            draws[at : at + n], statistics[at : at + n] = block.draws, block.statistics
            state, step_size = block.state, block.step_size
            at += n
            self._note(block, adapting)
            pace = _SECONDS_PER_BLOCK / max(time.perf_counter() - began, 1e-6)
            self.count = int(np.clip(n * pace, 1, min(longest, 4 * self.count)))
        return draws[:at], statistics[:at], state, step_size

    def _note(self, block: Block, adapting: bool) -> None:
        self.done += len(block.draws)
        self.steps += int(block.statistics[:, _STEPS].sum())
        if not adapting:
            self.divergences += int(block.statistics[:, _DIVERGING].sum())


def _spread(candidates: np.ndarray) -> np.ndarray:
    """Return a robust standard deviation of each coordinate over the candidates."""
    low, high = np.nanquantile(candidates, [0.25, 0.75], axis=0)
    spread = (high - low) / 1.349
    return np.where(np.isfinite(spread) & (spread > 0), spread, 1.0)
