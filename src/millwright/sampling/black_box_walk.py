"""Random-walk Metropolis for black boxes: all chains in step, their points in one call.

Each chain has its own randomness, proposals and tuning; none sees another.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from millwright.sampling.methods import RandomWalk
from millwright.sampling.piece import STATISTICS, Piece, thinned_statistics
from millwright.sampling.random_walk import step_noise
from millwright.sampling.sampler import FitSettings
from millwright.sampling.state import Generators, restored, widths
from millwright.sampling.target import TargetDensity
from millwright.sampling.walking import (
    acceptance_for,
    first_factor,
    first_scale,
    learned_factor,
    steps_for,
    walk_start,
)
from millwright.sampling.windowed import WindowedSampler, WindowedState, closed

__all__ = ["BlackBoxWalk", "WalksState"]

_COLUMN = {name: at for at, name in enumerate(STATISTICS)}


@dataclass(frozen=True, kw_only=True)
class WalksState(WindowedState):
    """Where the chains are, and the proposals that each has learned.

    Arrays have the chains as their first axis; the generators' states are lists over chains.
    """

    positions: np.ndarray
    values: np.ndarray
    factors: np.ndarray
    log_scales: np.ndarray
    noise: list[Generators]
    chances: list[Generators]
    lengths: list[Generators]

    @property
    def scales(self) -> list[np.ndarray]:
        """Standard deviations of the steps' covariance, chain by chain."""
        return [widths(factor) for factor in self.factors]

    @property
    def place(self) -> tuple[np.ndarray, float]:
        """The first chain's point with its log density."""
        return self.positions[0], float(self.values[0])


class BlackBoxWalk(WindowedSampler[WalksState, RandomWalk]):
    """Random-walk Metropolis on a target that is evaluated at many points in one call."""

    def __init__(
        self,
        target: TargetDensity,
        settings: FitSettings,
        chains: int,
        seed: int,
        method: RandomWalk,
    ) -> None:
        self.steps = method.steps or steps_for(target.dimension)
        super().__init__(target, settings, chains, seed, method, cost=self.steps)
        self.units = 1
        self.wanted = method.acceptance or acceptance_for(target.dimension)

    def prepare(self) -> None:
        """Nothing is to be compiled beforehand."""

    def start(self, unit: int) -> WalksState:
        """Take the likeliest of a few points drawn from the prior, for each chain."""
        children = [
            np.random.SeedSequence(self.seed, spawn_key=(chain,)).spawn(4)
            for chain in range(self.chains)
        ]
        makers = [[np.random.default_rng(child) for child in four] for four in children]
        found = [
            walk_start(self.method, self.target, four[0], self.seed, chain)
            for chain, four in enumerate(makers)
        ]
        noise, chances, lengths = (
            [four[at].bit_generator.state for four in makers] for at in (1, 2, 3)
        )
        dimension = self.target.dimension
        return WalksState(
            unit=unit,
            positions=np.concatenate([points for points, _, _ in found]),
            values=np.concatenate([values for _, values, _ in found]),
            factors=np.stack(
                [first_factor(self.method, self.target, self.seed, s) for _, _, s in found]
            ),
            log_scales=np.full(self.chains, first_scale(dimension)),
            window_draws=np.zeros((self.chains, 0, dimension)),
            noise=noise,
            chances=chances,
            lengths=lengths,
        )

    def report(self, state: WalksState) -> tuple[dict[str, Any], ...]:
        """Return the scale and cost of each chain's proposals."""
        wanted = self.wanted
        return tuple(
            self._report(state, step_size=step_size, target_acceptance=wanted, metric="dense")
            for step_size in np.exp(state.log_scales).tolist()
        )

    def _warm_up(self, state: WalksState) -> tuple[WalksState, tuple[Piece, ...]]:
        window = self.windows[state.window]
        state, rows = self._one_draw(state, adapting=True)
        kept = np.concatenate([state.window_draws, state.positions[:, None]], axis=1)
        state = replace(state, within=state.within + 1, window_draws=kept)
        if state.within == window.length:
            learns = window.metric and self.method.learns
            state = closed(state, **(self._learned(state) if learns else {}))
        empty = Piece.empty(self.target.dimension)
        return state, tuple(replace(empty, warmup=row[None]) for row in rows)

    def _learned(self, state: WalksState) -> dict[str, np.ndarray]:
        factors, scales = state.factors.copy(), state.log_scales.copy()
        for chain, window in enumerate(state.window_draws):
            factors[chain] = learned_factor(window, state.factors[chain])
            if not np.array_equal(factors[chain], state.factors[chain]):
                scales[chain] = first_scale(self.target.dimension)
        return {"factors": factors, "log_scales": scales}

    def _draw(self, state: WalksState) -> tuple[WalksState, tuple[Piece, ...]]:
        rows = []
        for _ in range(self.settings.thin):
            state, found = self._one_draw(state, adapting=False)
            rows.append(found)
        statistics = np.stack(rows, axis=1)
        empty = Piece.empty(self.target.dimension)
        return state, tuple(
            replace(
                empty,
                positions=state.positions[chain][None],
                statistics=thinned_statistics(statistics[chain], self.settings.thin),
            )
            for chain in range(self.chains)
        )

    def _one_draw(self, state: WalksState, adapting: bool) -> tuple[WalksState, np.ndarray]:
        """Make the steps of one draw; return the state and a row of statistics a chain."""
        drawn = [
            step_noise(noise, lengths, (self.steps,), factor, self.method)
            for noise, lengths, factor in zip(
                state.noise, state.lengths, state.factors, strict=True
            )
        ]
        makers = [restored(bits) for bits in state.chances]
        chances = np.log(np.stack([maker.random(self.steps) for maker in makers]))
        positions, values, scales = state.positions, state.values, state.log_scales
        total = np.zeros(self.chains)
        rate = 1 / np.sqrt(1 + state.within * self.steps / 10)
        for step in range(self.steps):
            noise = np.stack([steps[step] for steps, _ in drawn])
            candidates = positions + np.exp(scales)[:, None] * noise
            there = self.target.plain(candidates)
            there = np.where(there < np.inf, there, -np.inf)
            log_ratio = np.minimum(0.0, there - values)
            taken = chances[:, step] < log_ratio
            positions = np.where(taken[:, None], candidates, positions)
            values = np.where(taken, there, values)
            total += np.exp(log_ratio)
            if adapting:
                scales = scales + rate * (np.exp(log_ratio) - self.wanted)
        rows = np.zeros((self.chains, len(STATISTICS)))
        rows[:, _COLUMN["log_density"]] = values
        rows[:, _COLUMN["acceptance"]] = total / self.steps
        rows[:, _COLUMN["evaluations"]] = self.steps
        rows[:, _COLUMN["energy"]] = np.nan
        rows[:, _COLUMN["step_size"]] = np.exp(scales)
        after = replace(
            state,
            done=state.done + 1,
            positions=positions,
            values=values,
            log_scales=scales,
            noise=[bits[0] for _, bits in drawn],
            lengths=[bits[1] for _, bits in drawn],
            chances=[maker.bit_generator.state for maker in makers],
        )
        return after, rows
