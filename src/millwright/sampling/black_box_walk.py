"""Random-walk Metropolis for black boxes: all chains in step, their points in one call.

Each chain has its own randomness, proposals and tuning; none sees another.
"""

from __future__ import annotations

import time
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from millwright.sampling.block import STATISTICS
from millwright.sampling.methods import RandomWalk
from millwright.sampling.piece import Piece, joined, thinned_statistics
from millwright.sampling.progress import ChainProgress
from millwright.sampling.random_walk import step_noise
from millwright.sampling.sampler import FitSettings, Stop
from millwright.sampling.state import Generators, State, restored
from millwright.sampling.target import Target
from millwright.sampling.walking import (
    acceptance_for,
    first_factor,
    first_scale,
    good_start,
    learned_factor,
    steps_for,
)
from millwright.sampling.warmup import plan

__all__ = ["BlackBoxWalk", "WalksState"]

_COLUMN = {name: at for at, name in enumerate(STATISTICS)}


@dataclass(frozen=True)
class WalksState(State):
    """Where the chains are, and the proposals that each has learned.

    Arrays have the chains as their first axis; the generators' states are lists over chains.
    """

    window: int
    within: int
    positions: np.ndarray
    values: np.ndarray
    factors: np.ndarray
    log_scales: np.ndarray
    window_draws: np.ndarray
    noise: list[Generators]
    chances: list[Generators]
    lengths: list[Generators]
    warmup_seconds: float = 0.0
    seconds: float = 0.0


class BlackBoxWalk:
    """Random-walk Metropolis on a target that is evaluated at many points in one call."""

    units = 1

    def __init__(
        self, target: Target, settings: FitSettings, chains: int, seed: int, method: RandomWalk
    ) -> None:
        self.target = target
        self.settings = settings
        self.chains = chains
        self.seed = seed
        self.method = method
        self.windows = plan(settings.warmup)
        self.steps = method.steps or steps_for(target.dimension)
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
        found = [good_start(self.target, four[0]) for four in makers]
        noise, chances, lengths = (
            [four[at].bit_generator.state for four in makers] for at in (1, 2, 3)
        )
        dimension = self.target.dimension
        return WalksState(
            unit=unit,
            done=0,
            window=0,
            within=0,
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

    def advance(
        self, state: WalksState, seconds: float, stop: Stop
    ) -> tuple[WalksState, tuple[Piece, ...]]:
        """Go on draw by draw for about so many seconds, or to the end."""
        until = time.perf_counter() + seconds
        pieces: list[list[Piece]] = [[] for _ in range(self.chains)]
        while state.done < self.settings.total and not stop.is_set():
            began = time.perf_counter()
            warming = state.window < len(self.windows)
            state, found = self._warm_up(state) if warming else self._draw(state)
            for chain, piece in enumerate(found):
                pieces[chain].append(piece)
            now = time.perf_counter()
            spent = "warmup_seconds" if warming else "seconds"
            state = replace(state, **{spent: getattr(state, spent) + now - began})
            if now >= until:
                break
        return state, tuple(joined(of_chain, self.target.dimension) for of_chain in pieces)

    def progress(self, state: WalksState) -> tuple[ChainProgress, ...]:
        """Say how far the chains are."""
        warming = state.window < len(self.windows)
        total, steps = self.settings.total, state.done * self.steps
        return tuple(
            ChainProgress(chain, warming, state.done, total, 0, steps)
            for chain in range(self.chains)
        )

    def report(self, state: WalksState) -> tuple[dict[str, Any], ...]:
        """Return the scale and cost of each chain's proposals."""
        return tuple(
            {
                "step_size": float(np.exp(state.log_scales[chain])),
                "target_acceptance": self.wanted,
                "metric": "dense",
                "metric_scale": np.sqrt(np.sum(state.factors[chain] ** 2, axis=1)),
                "warmup_steps": min(state.done, self.settings.warmup) * self.steps,
                "steps": state.done * self.steps,
                "seconds": [state.warmup_seconds, state.seconds],
            }
            for chain in range(self.chains)
        )

    def _warm_up(self, state: WalksState) -> tuple[WalksState, list[Piece]]:
        window = self.windows[state.window]
        state, rows = self._one_draw(state, adapting=True)
        kept = np.concatenate([state.window_draws, state.positions[:, None]], axis=1)
        state = replace(state, within=state.within + 1, window_draws=kept)
        if state.within == window.length:
            if window.metric and self.method.covariance == "warm-up":
                state = self._learn(state)
            state = replace(state, window=state.window + 1, within=0, window_draws=kept[:, :0])
        empty = Piece.empty(self.target.dimension)
        return state, [replace(empty, warmup=row[None]) for row in rows]

    def _learn(self, state: WalksState) -> WalksState:
        factors, scales = state.factors.copy(), state.log_scales.copy()
        for chain, window in enumerate(state.window_draws):
            factor = learned_factor(window, state.factors[chain])
            if factor is not state.factors[chain] and not np.array_equal(factor, factors[chain]):
                factors[chain] = factor
                scales[chain] = first_scale(self.target.dimension)
        return replace(state, factors=factors, log_scales=scales)

    def _draw(self, state: WalksState) -> tuple[WalksState, list[Piece]]:
        rows = []
        for _ in range(self.settings.thin):
            state, found = self._one_draw(state, adapting=False)
            rows.append(found)
        statistics = np.stack(rows, axis=1)
        empty = Piece.empty(self.target.dimension)
        return state, [
            replace(
                empty,
                positions=state.positions[chain][None],
                statistics=thinned_statistics(statistics[chain], self.settings.thin),
            )
            for chain in range(self.chains)
        ]

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
            there = np.where(np.isnan(there), -np.inf, there)
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
        rows[:, _COLUMN["steps"]] = self.steps
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
