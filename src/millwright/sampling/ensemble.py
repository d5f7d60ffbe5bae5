"""Ensembles: walkers that take the directions of their steps from each other.

Goodman and Weare (2010), "Ensemble samplers with affine invariance", Communications in Applied
Mathematics and Computational Science 5(1), for the stretch move; ter Braak (2006), "A Markov
Chain Monte Carlo version of the genetic algorithm Differential Evolution", Statistics and
Computing 16, for the move along differences. One half of the walkers moves while the other
stands still, so that all points of a half are evaluated in one call.
"""

from __future__ import annotations

import time
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from millwright.errors import ArgumentError
from millwright.sampling.methods import Ensemble
from millwright.sampling.piece import STATISTICS, Piece, thinned_statistics
from millwright.sampling.progress import ChainProgress
from millwright.sampling.sampler import FitSettings, Stop
from millwright.sampling.settled import CHECKED_EVERY, settled, summary
from millwright.sampling.state import Generators, UnitState, restored
from millwright.sampling.target import TargetDensity
from millwright.sampling.walking import good_start, steps_for

__all__ = ["EnsembleSampler", "EnsembleState", "walkers_for"]

_COLUMN = {name: at for at, name in enumerate(STATISTICS)}
_WIDEST_STRETCH = 2.0
_JUMPS_BETWEEN_MODES = 0.1
_JITTER = 1e-3
_CHANCES = 5


def walkers_for(dimension: int) -> int:
    """Return how many walkers suit a target."""
    return max(20, 4 * dimension)


@dataclass(frozen=True, kw_only=True)
class EnsembleState(UnitState):
    """Where the walkers are: positions of shape (walkers, dimension) and log densities.

    Attributes
    ----------
    history
        What is followed of the walkers in the warm-up, one row a draw; without rows after it.
    settled
        After how many draws the warm-up ended before its time, or -1.
    """

    positions: np.ndarray
    values: np.ndarray
    bits: Generators
    history: np.ndarray
    settled: int = -1

    @property
    def place(self) -> tuple[np.ndarray, float]:
        """The first walker's point with its log density."""
        return self.positions[0], float(self.values[0])


class EnsembleSampler:
    """One ensemble; each walker counts as a chain.

    Raises
    ------
    ArgumentError
        For an odd number of walkers, or fewer than twice the unknowns: they would stay in a
        plane.
    """

    units = 1

    def __init__(
        self,
        target: TargetDensity,
        settings: FitSettings,
        chains: int,
        seed: int,
        method: Ensemble,
    ) -> None:
        least = max(4, 2 * target.dimension + 2)
        if chains < least or chains % 2:
            raise ArgumentError(
                f"An ensemble needs an even number of walkers, here at least {least}: give "
                f"chains={max(least, chains + chains % 2)}, not {chains}."
            )
        self.target = target
        self.settings = settings
        self.chains = chains
        self.seed = seed
        self.method = method
        self.steps = method.steps or steps_for(target.dimension)

    def prepare(self) -> None:
        """Nothing is to be compiled beforehand."""

    def start(self, unit: int) -> EnsembleState:
        """Place the walkers where they are to begin, or on the likeliest of draws of the prior."""
        children = np.random.SeedSequence(self.seed, spawn_key=(unit,)).spawn(2)
        starts, bits = map(np.random.default_rng, children)
        stated = self.target.begin_at
        if stated is not None and len(stated) == self.chains:
            points, values = np.array(stated), np.array(self.target.plain(stated))
        else:
            points, values, _ = good_start(self.target, starts, wanted=self.chains, tried=10)
        order = starts.permutation(self.chains)
        return EnsembleState(
            unit=unit,
            positions=points[order],
            values=values[order],
            bits=bits.bit_generator.state,
            history=np.zeros((0, len(summary(points, values)))),
        )

    def advance(
        self, state: EnsembleState, seconds: float, stop: Stop
    ) -> tuple[EnsembleState, tuple[Piece, ...]]:
        """Go on draw by draw for about so many seconds, or to the end."""
        began = time.perf_counter()
        generator = restored(state.bits)
        at, values, done = state.positions, state.values, state.done
        history, ended = list(state.history), state.settled
        warm: list[np.ndarray] = []
        kept: list[np.ndarray] = []
        positions: list[np.ndarray] = []
        warmed = began
        with np.errstate(all="ignore"):
            while done < self.settings.total and not stop.is_set():
                warming = done < self.settings.warmup
                turns = 1 if warming else self.settings.thin
                for _ in range(turns):
                    at, values, rows = self._one_draw(generator, at, values)
                    (warm if warming else kept).append(rows)
                done += turns
                if not warming:
                    positions.append(at)
                elif self.method.until_stationary:
                    history.append(summary(at, values))
                    if done % CHECKED_EVERY == 0 and settled(np.array(history)):
                        ended, done = done, self.settings.warmup
                now = time.perf_counter()
                warmed = now if warming else warmed
                if now >= began + seconds:
                    break
        kept_history = history if done < self.settings.warmup else []
        state = replace(
            state,
            done=done,
            positions=at,
            values=values,
            history=np.array(kept_history).reshape(-1, state.history.shape[1]),
            settled=ended,
            bits=generator.bit_generator.state,
            warmup_seconds=state.warmup_seconds + warmed - began,
            seconds=state.seconds + time.perf_counter() - warmed,
        )
        return state, self._pieces(positions, kept, warm)

    def _pieces(
        self, positions: list[np.ndarray], kept: list[np.ndarray], warm: list[np.ndarray]
    ) -> tuple[Piece, ...]:
        """Gather what each walker left."""
        empty = Piece.empty(self.target.dimension)
        found = _by_walker(positions, self.chains, self.target.dimension)
        rows = _by_walker(kept, self.chains, len(STATISTICS))
        warmup = _by_walker(warm, self.chains, len(STATISTICS))
        return tuple(
            replace(
                empty,
                positions=found[chain],
                statistics=thinned_statistics(rows[chain], self.settings.thin),
                warmup=warmup[chain],
            )
            for chain in range(self.chains)
        )

    def progress(self, state: EnsembleState) -> tuple[ChainProgress, ...]:
        """Say how far the walkers are."""
        warming = state.done < self.settings.warmup
        spared = self._spared(state)
        done, total = state.done - spared, self.settings.total - spared
        return tuple(
            ChainProgress(
                chain=chain,
                warming=warming,
                done=done,
                total=total,
                divergences=0,
                steps=done * self.steps,
                moves=self.steps,
            )
            for chain in range(self.chains)
        )

    def report(self, state: EnsembleState) -> tuple[dict[str, Any], ...]:
        """Return what the walkers cost; an ensemble has nothing to tune."""
        spared = self._spared(state)
        warmed = min(state.done, self.settings.warmup) - spared
        return (
            {
                "step_size": 1.0,
                "target_acceptance": None,
                "metric": "ensemble",
                "warmup_steps": warmed * self.steps,
                "steps": (state.done - spared) * self.steps,
                "moves_per_draw": self.steps * self.settings.thin,
                "warmup_draws": warmed,
                "stationary": state.settled >= 0 if self.method.until_stationary else None,
                "seconds": [state.warmup_seconds, state.seconds],
            },
        ) * self.chains

    def _spared(self, state: EnsembleState) -> int:
        """Return how many draws of the warm-up were not needed."""
        return self.settings.warmup - state.settled if state.settled >= 0 else 0

    def _one_draw(
        self, generator: np.random.Generator, positions: np.ndarray, values: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Return new points and log densities, and a row of statistics a walker."""
        positions, values = positions.copy(), values.copy()
        half = self.chains // 2
        halves = (slice(half), slice(half, None))
        rows = np.zeros((self.chains, len(STATISTICS)))
        acceptance = np.zeros(self.chains)
        # All that is left to chance in a draw at once: small calls cost more than the numbers.
        chances = generator.random((self.steps, 2, _CHANCES, half))
        moves = generator.random((self.steps, 2))
        for step in range(self.steps):
            for which, (moving, still) in enumerate((halves, halves[::-1])):
                chance = chances[step, which]
                candidates, log_factor = self._proposed(
                    moves[step, which], chance[1:], positions[moving], positions[still]
                )
                there = self.target.plain(candidates)
                log_ratio = there - values[moving]
                log_ratio += log_factor
                # Not a number counts as impossible, nor is anything infinitely likely.
                log_ratio[np.isnan(log_ratio) | (there == np.inf)] = -np.inf
                accepted = np.exp(np.minimum(log_ratio, 0.0))
                taken = chance[0] < accepted
                np.copyto(positions[moving], candidates, where=taken[:, None])
                np.copyto(values[moving], there, where=taken)
                acceptance[moving] += accepted
        rows[:, _COLUMN["log_density"]] = values
        rows[:, _COLUMN["acceptance"]] = acceptance / self.steps
        rows[:, _COLUMN["evaluations"]] = self.steps
        rows[:, _COLUMN["energy"]] = np.nan
        rows[:, _COLUMN["step_size"]] = 1.0
        return positions, values, rows

    def _proposed(
        self, move: float, chance: np.ndarray, moving: np.ndarray, still: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray | float]:
        """Propose a point for each moving walker, with the logarithm of its volume factor."""
        stretches = self.method.proposal == "stretch" or (
            self.method.proposal == "both" and move < 0.5
        )
        if stretches:
            return _stretched(chance, moving, still)
        return _along_differences(chance, moving, still), 0.0


def _by_walker(found: list[np.ndarray], walkers: int, columns: int) -> np.ndarray:
    """Return arrays of shape (walkers, columns), one a draw, as (walkers, draws, columns)."""
    if not found:
        return np.zeros((walkers, 0, columns))
    return np.ascontiguousarray(np.stack(found).swapaxes(0, 1))


def _stretched(
    chance: np.ndarray, moving: np.ndarray, still: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Stretch each walker's distance from a partner (Goodman and Weare 2010, eq. 7 to 10)."""
    partners = still.take(_below(len(still), chance[0]), axis=0)
    a = _WIDEST_STRETCH
    stretch = np.square((a - 1.0) * chance[1] + 1.0) / a
    candidates = partners + stretch[:, None] * (moving - partners)
    return candidates, (moving.shape[1] - 1.0) * np.log(stretch)


def _along_differences(chance: np.ndarray, moving: np.ndarray, still: np.ndarray) -> np.ndarray:
    """Move each walker along the difference of two others (ter Braak 2006, eq. 2).

    Now and then the whole difference is taken, which leads from one mode to another.
    """
    n = len(still)
    first = _below(n, chance[0])
    second = (first + 1 + _below(n - 1, chance[1])) % n
    usual = 2.38 / np.sqrt(2.0 * moving.shape[1])
    length = np.where(chance[2] < _JUMPS_BETWEEN_MODES, 1.0, usual)
    # A little noise in the length, so that no walker comes back to a point exactly.
    length *= 1.0 + _JITTER * (2.0 * chance[3] - 1.0)
    return moving + length[:, None] * (still.take(first, axis=0) - still.take(second, axis=0))


def _below(n: int, chance: np.ndarray) -> np.ndarray:
    """Return whole numbers from 0 to n - 1 from numbers of [0, 1)."""
    return (chance * n).astype(np.int64)
