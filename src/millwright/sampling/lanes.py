"""Chains of many data sets in lock step: start, warm-up, draws.

All data sets share one model and one shape, so a compiled block moves all of their chains at once.
The chains of one data set share a step size and a dense metric, learned from all of them.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from millwright.errors import StartError
from millwright.sampling.block_tuples import StepSize
from millwright.sampling.compiling import compiled, on_device
from millwright.sampling.lane_state import LaneState, StateNumbers, TrialNumbers
from millwright.sampling.lane_tuples import LanePoint, LaneSettings
from millwright.sampling.methods import FixedLength
from millwright.sampling.mode import Slopes
from millwright.sampling.piece import STATISTICS, Piece, path_of, thinned_statistics
from millwright.sampling.sampler import FitSettings
from millwright.sampling.start_points import (
    LOWEST_START,
    pulled_in,
    spread_of,
    start_candidates,
)
from millwright.sampling.state import widths
from millwright.sampling.streams import Stream, generator_of
from millwright.sampling.target import TargetDensity
from millwright.sampling.warmup import dense_scale, plan, refined_scale, without_overflow
from millwright.sampling.windowed import closed

__all__ = ["Lanes"]

_DIVERGENT = STATISTICS.index("diverged")
_ACCEPTANCE = STATISTICS.index("acceptance")
_STEPS = STATISTICS.index("evaluations")
_SHORTEST, _LONGEST = 0.1, 1.9
_CANDIDATES = 100
_MOST_HALVINGS = 60


@dataclass(frozen=True)
class _Block:
    """What a block of `count` transitions left: arrays (count, sets, chains, ...)."""

    draws: np.ndarray
    statistics: np.ndarray
    ends: np.ndarray


class Lanes:
    """The chains of several targets with one log density and arguments of one shape.

    Parameters
    ----------
    seeds
        One for each target; its draws rest on it alone, up to rounding.
    sets
        For how many targets to compile; places that are left over repeat the last one.
    """

    def __init__(
        self,
        targets: Sequence[TargetDensity],
        settings: FitSettings,
        chains: int,
        seeds: Sequence[int],
        method: FixedLength,
        sets: int = 1,
    ) -> None:
        self.targets = targets
        self.settings = settings
        self.chains = chains
        self.seeds = seeds
        self.method = method
        self.sets = max(sets, len(targets))
        self.dimension = targets[0].dimension
        self.windows = plan(settings.warmup)
        size = self.sets * chains * self.dimension
        self.longest = int(np.clip(2_000_000 // size, 8, 250))
        self.lengths = method.length * generator_of(0, Stream.LENGTHS).uniform(
            _SHORTEST, _LONGEST, settings.total + self.longest
        )
        self.arguments: Any = None
        self.slopes: list[Slopes] = []
        self.block: Callable[..., Any] | None = None

    def prepare(self) -> None:
        """Compile."""
        import jax

        from millwright.sampling.lane_block import block_of_lanes

        every = [*self.targets, *[self.targets[-1]] * (self.sets - len(self.targets))]
        stacked = jax.tree.map(lambda *leaves: np.stack(leaves), *(t.arguments for t in every))
        self.arguments = on_device(stacked)
        sets, chains, dimension = self.sets, self.chains, self.dimension
        points = np.zeros((sets, chains, dimension))
        example = (
            LanePoint(points, points, points[:, :, 0]),
            StepSize(*(np.zeros(sets),) * 5),
            self._settings(0, True, False, 1, np.zeros((sets, dimension, dimension))),
            np.zeros((self.longest, sets, chains, dimension)),
            np.zeros((self.longest, sets, chains)),
            np.zeros(self.longest),
            self.arguments,
        )
        key = self.targets[0].key
        self.slopes = [Slopes(target) for target in self.targets]
        self.block = compiled(block_of_lanes, key, example)

    def _settings(
        self, count: int, adapting: bool, cautious: bool, most: int, scale: np.ndarray
    ) -> LaneSettings:
        return LaneSettings(
            np.int64(count),
            np.bool_(adapting),
            np.bool_(cautious),
            scale,
            np.full(self.sets, self.method.target_acceptance),
            np.float64(most),
        )

    def start(self) -> list[LaneState | StartError]:
        """Find starting points with finite densities and gradients, and step sizes.

        Returns
        -------
        A state for each target, or why it has none.
        """
        found = [
            [start_candidates(target, seed, unit) for unit in range(self.chains)]
            for target, seed in zip(self.targets, self.seeds, strict=True)
        ]
        spread = [spread_of(np.concatenate(every)) for every in found]
        candidates = np.stack([np.stack([one[:_CANDIDATES] for one in every]) for every in found])
        lowest = np.full(candidates.shape[:2], LOWEST_START)
        for at, target in enumerate(self.targets):
            for chain in range(self.chains):
                beginning = target.beginning(chain)
                if beginning is not None:
                    candidates[at, chain, 0], lowest[at, chain] = beginning, -np.inf
        point = self._first_points(candidates, lowest)
        lost = ~_finite(point)
        if lost.any():
            nearer = np.stack([np.stack([pulled_in(one) for one in every]) for every in found])
            once_more = np.concatenate([point.q[:, :, None], nearer], axis=2)
            point = self._first_points(once_more, np.where(lost, np.inf, -np.inf))
        states = [
            self._state_at(seed, LanePoint(*(part[at] for part in point)), spread[at])
            for at, seed in enumerate(self.seeds)
        ]
        begun = self._first_steps(states, np.ones(len(states)), reach=10.0)
        good = np.all(_finite(point), axis=1)
        return [
            begun[at] if good[at] else self._no_start(at, candidates[at])
            for at in range(len(begun))
        ]

    def _no_start(self, at: int, candidates: np.ndarray) -> StartError:
        tried = candidates.reshape(-1, self.dimension)
        return StartError(
            "No starting point: the log density was not finite at any of "
            f"{candidates.shape[1]} points drawn from the prior, nor nearer to its middle. "
            f"{self.targets[at].explain(tried)}"
        )

    def _state_at(self, seed: int, point: LanePoint, spread: np.ndarray) -> LaneState:
        scale, nothing = np.diag(spread), np.zeros(self.chains)
        normal, choices = (generator_of(seed, Stream.LANES, number) for number in (0, 1))
        return LaneState(
            unit=0,
            positions=point.q,
            gradients=point.gradient @ scale,
            log_densities=point.log_density,
            step_size=np.array(StepSize.starting_at(1.0)),
            scale=scale,
            momenta=normal.bit_generator.state,
            choices=choices.bit_generator.state,
            window_draws=np.zeros((self.chains, 0, self.dimension)),
            steps=nothing,
            divergences=nothing,
            warmup_steps=nothing,
        )

    def _first_points(self, candidates: np.ndarray, lowest: np.ndarray) -> LanePoint:
        """Return the first candidate of each chain that is high enough, or else the highest."""
        positions = np.array(candidates[:, :, 0])
        point = LanePoint(positions, *self._heights(positions))
        for number in range(1, candidates.shape[2]):
            heights = _heights_from_finite(point)
            if (heights > lowest).all():
                break
            tried = LanePoint(candidates[:, :, number], *self._heights(candidates[:, :, number]))
            better = (heights <= lowest) & (_heights_from_finite(tried) > heights)
            for old, new in zip(point, tried, strict=True):
                old[better] = new[better]
        return point

    def _heights(self, positions: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return natural gradients and log densities, in the order of a `LanePoint`."""
        found = [of(at) for of, at in zip(self.slopes, positions, strict=True)]
        return -np.stack([one[1] for one in found]), -np.stack([one[0] for one in found])

    def _filled(self, values: np.ndarray, axis: int = 0) -> np.ndarray:
        """Fill up the places that are left over with copies of the last target's numbers."""
        extra = self.sets - values.shape[axis]
        if not extra:
            return values
        last = np.take(values, [-1] * extra, axis=axis)
        return np.concatenate([values, last], axis=axis)

    def advance(
        self, states: Sequence[LaneState]
    ) -> tuple[list[LaneState], list[tuple[Piece, ...]]]:
        """Make one block, of all targets; return new states and a piece a chain of each."""
        began = time.perf_counter()
        warming = states[0].window < len(self.windows)
        after, pieces = self._warm_up(states) if warming else self._draw(states)
        seconds = (time.perf_counter() - began) / len(states)
        return [state.after(seconds, warming) for state in after], pieces

    def _moved(
        self, states: Sequence[LaneState], count: int, adapting: bool
    ) -> tuple[list[LaneState], _Block]:
        """Run a block and move the states on."""
        bits = [StateNumbers(state) for state in states]
        first = states[0]
        cautious = first.window < len(self.windows) - 1
        point, learned, block = self._run(
            states,
            bits,
            np.stack([state.step_size for state in states]),
            self.lengths[first.done : first.done + count],
            (adapting, cautious, self.method.most_steps),
        )
        steps = block.statistics[..., _STEPS].sum(axis=0)
        after = [
            replace(
                state,
                positions=point.q[at],
                gradients=point.gradient[at],
                log_densities=point.log_density[at],
                step_size=learned[at],
                momenta=bits[at].momenta,
                choices=bits[at].choices,
                done=state.done + count,
                steps=state.steps + steps[at],
            )
            for at, state in enumerate(states)
        ]
        return after, block

    def _run(
        self,
        states: Sequence[LaneState],
        bits: Sequence[StateNumbers | TrialNumbers],
        sizes: np.ndarray,
        lengths: np.ndarray,
        how: tuple[bool, bool, int],
    ) -> tuple[LanePoint, np.ndarray, _Block]:
        """Run the compiled block from where the states are.

        Returns the points, the states of the step sizes, shape (sets, 5), and the block.
        """
        assert self.block is not None
        chains, dimension, count = self.chains, self.dimension, len(lengths)
        momenta = np.zeros((self.longest, self.sets, chains, dimension))
        chances = np.zeros((self.longest, self.sets, chains))
        for at, one in enumerate(bits):
            momenta[:count, at] = one.normal.standard_normal((count, chains, dimension))
            chances[:count, at] = one.uniform.random((count, chains))
        point = LanePoint(
            *(
                self._filled(np.stack([getattr(state, name) for state in states]))
                for name in ("positions", "gradients", "log_densities")
            )
        )
        scale = self._filled(np.stack([state.scale for state in states]))
        result = self.block(
            point,
            StepSize(*self._filled(sizes).T.copy()),
            self._settings(count, *how, scale),
            momenta,
            chances,
            np.pad(lengths, (0, self.longest - count)),
            self.arguments,
        )
        here = len(states)
        learned = np.stack([np.asarray(x)[:here] for x in result[1]], axis=1)
        block = _Block(*(np.asarray(kept)[:count, :here] for kept in result[2:]))
        return LanePoint(*(np.asarray(part)[:here] for part in result[0])), learned, block

    def _warm_up(
        self, states: Sequence[LaneState]
    ) -> tuple[list[LaneState], list[tuple[Piece, ...]]]:
        first = states[0]
        window = self.windows[first.window]
        count = min(self.longest, window.length - first.within)
        after, block = self._moved(states, count, True)
        after = [
            replace(
                state,
                within=state.within + count,
                warmup_steps=state.steps,
                window_draws=np.concatenate(
                    [state.window_draws, block.draws[:, at].swapaxes(0, 1)], axis=1
                )
                if window.metric
                else state.window_draws,
            )
            for at, state in enumerate(after)
        ]
        if after[0].within == window.length:
            if window.metric:
                after = self._learned(after)
            after = [closed(state) for state in after]
        empty = Piece.empty(self.dimension)
        pieces = [
            tuple(
                replace(
                    empty,
                    warmup=block.statistics[:, at, chain],
                    path=path_of(block.draws[:, at, chain]),
                )
                for chain in range(self.chains)
            )
            for at in range(len(states))
        ]
        return after, pieces

    @without_overflow
    def _learned(self, states: list[LaneState]) -> list[LaneState]:
        """Estimate each target's metric from a window's draws of all its chains."""
        result = []
        for state in states:
            draws = state.window_draws.reshape(-1, self.dimension)
            sd = np.sqrt(draws.var(axis=0))
            deviations = refined_scale(len(draws), draws.mean(axis=0), sd, widths(state.scale))
            scale = dense_scale(draws, deviations)
            natural = np.linalg.solve(state.scale.T, state.gradients.T).T
            result.append(replace(state, scale=scale, gradients=natural @ scale))
        sizes = np.array([np.exp(StepSize(*state.step_size).log_mean) for state in states])
        return self._first_steps(result, sizes, reach=2.0)

    def _first_steps(
        self, states: list[LaneState], sizes: np.ndarray, reach: float
    ) -> list[LaneState]:
        """Find step sizes whose acceptance crosses one half (Hoffman and Gelman 2014, alg. 4)."""
        # Streams of their own: how many trials there are rests on the other targets too.
        bits = [TrialNumbers(seed, states[0].done) for seed in self.seeds]
        found, trying = sizes, sizes
        settled = np.zeros(len(sizes), dtype=bool)
        rising = self._accepted(states, bits, trying) > 0.5
        for _ in range(_MOST_HALVINGS):
            trying = np.where(settled, trying, trying * np.where(rising, 2.0, 0.5))
            more = self._accepted(states, bits, trying) > 0.5
            crossed = (more != rising) & ~settled
            # The larger of the two sizes between which acceptance crosses one half is too large.
            found = np.where(settled | (crossed & rising), found, trying)
            settled |= crossed
            if settled.all():
                break
        return [
            replace(state, step_size=np.array(StepSize.starting_at(size, reach=reach)))
            for state, size in zip(states, found, strict=True)
        ]

    def _accepted(
        self,
        states: Sequence[LaneState],
        bits: Sequence[StateNumbers | TrialNumbers],
        sizes: np.ndarray,
    ) -> np.ndarray:
        """Return the mean acceptance of one leapfrog step from where the chains are."""
        begun = np.array([StepSize.starting_at(size) for size in sizes])
        _, _, block = self._run(states, bits, begun, np.ones(1), (False, False, 1))
        return np.asarray(block.statistics[0, :, :, _ACCEPTANCE].mean(axis=1))

    def _draw(
        self, states: Sequence[LaneState]
    ) -> tuple[list[LaneState], list[tuple[Piece, ...]]]:
        """Make kept draws: a block of transitions."""
        thin = self.settings.thin
        done = states[0].done
        left = self.settings.total - done
        count = max(1, min(self.longest, left) // thin) * thin
        first = (done - self.settings.warmup) // thin
        parts: list[_Block] = []
        after = list(states)
        while count:
            now = min(self.longest, count)
            after, block = self._moved(after, now, False)
            parts.append(block)
            count -= now
        draws, statistics, ends = (
            np.concatenate([getattr(part, name) for part in parts])
            for name in ("draws", "statistics", "ends")
        )
        failed = statistics[..., _DIVERGENT] > 0
        after = [
            replace(state, divergences=state.divergences + failed[:, at].sum(axis=0))
            for at, state in enumerate(after)
        ]
        empty = Piece.empty(self.dimension)
        pieces = []
        for at in range(len(states)):
            own = []
            for chain in range(self.chains):
                where = np.flatnonzero(failed[:, at, chain])
                own.append(
                    replace(
                        empty,
                        positions=draws[thin - 1 :: thin, at, chain],
                        statistics=thinned_statistics(statistics[:, at, chain], thin),
                        failures=ends[where, at, chain],
                        failed=first + where // thin + 1.0,
                    )
                )
            pieces.append(tuple(own))
        return after, pieces


def _heights_from_finite(point: LanePoint) -> np.ndarray:
    """Return the log density of each start; -inf where not all is finite."""
    return np.where(_finite(point), point.log_density, -np.inf)


def _finite(point: LanePoint) -> np.ndarray:
    return np.asarray(np.isfinite(point.log_density) & np.isfinite(point.gradient).all(axis=-1))
