"""Random-walk Metropolis: for targets without a gradient, and to check another method.

Normal proposals around the present point. In warm-up the covariance is learned from the chain's
own draws in growing windows (Haario, Saksman and Tamminen 2001) and the scale is tuned to the
acceptance that suits the dimension (Roberts, Gelman and Gilks 1997; Roberts and Rosenthal 2001:
0.44 in one dimension, towards 0.234 in many); both are then held fixed. Each kept draw is the
last of several proposals.
"""

from __future__ import annotations

import time
from threading import Event

import numpy as np

from millwright.errors import StartError
from millwright.sampling.block import STATISTICS
from millwright.sampling.chain import ChainResult, FitSettings
from millwright.sampling.progress import ChainProgress
from millwright.sampling.target import Target
from millwright.sampling.warmup import plan

__all__ = ["MetropolisWalk", "acceptance_for", "proposals_for"]

_COLUMN = {name: at for at, name in enumerate(STATISTICS)}


def acceptance_for(dimension: int) -> float:
    """Return the acceptance at which a normal random walk moves fastest."""
    return 0.234 + 0.206 / dimension


def proposals_for(dimension: int) -> int:
    """Return how many proposals make one kept draw: the walk's memory grows with dimension."""
    return min(50, 4 + 2 * dimension)


class MetropolisWalk:
    """Chains that go in step, so that their points are evaluated in one call.

    Each chain has its own randomness, proposals and tuning; none sees another. They can be
    watched and stopped from another thread while they run.
    """

    def __init__(
        self, target: Target, settings: FitSettings, chains: int, seed: int, stop: Event
    ) -> None:
        self.target = target
        self.settings = settings
        self.stop = stop
        sequences = [np.random.SeedSequence(seed, spawn_key=(n,)).spawn(2) for n in range(chains)]
        self.starts = [np.random.default_rng(pair[0]) for pair in sequences]
        self.bits = [np.random.default_rng(pair[1]) for pair in sequences]
        self.proposals = proposals_for(target.dimension)
        self.wanted = acceptance_for(target.dimension)
        self.factor = np.stack([np.eye(target.dimension)] * chains)
        self.log_scale = np.full(chains, np.log(2.38 / np.sqrt(target.dimension)))
        self.done = self.steps = 0

    @property
    def progress(self) -> tuple[ChainProgress, ...]:
        """How far the chains are."""
        total = self.settings.warmup + self.settings.draws
        warming = self.done < self.settings.warmup
        return tuple(
            ChainProgress(number, warming, self.done, total, 0, self.steps)
            for number in range(len(self.bits))
        )

    def run(self) -> tuple[ChainResult, ...]:
        """Run the chains to their end, or to the next draw once `stop` is set."""
        began = time.perf_counter()
        positions, values = self._start()
        warm = [np.zeros((len(self.bits), 0, len(STATISTICS)))]
        for window in plan(self.settings.warmup):
            found = self._many(positions, values, window.length, True)
            draws, statistics, positions, values = found
            warm.append(statistics)
            if window.metric and not self.stop.is_set():
                self._learn(draws)
        warmed = time.perf_counter()
        draws, statistics, _, _ = self._many(positions, values, self.settings.draws, False)
        seconds = (warmed - began, time.perf_counter() - warmed)
        before = np.concatenate(warm, axis=1)
        return tuple(
            ChainResult(
                draws[chain],
                statistics[chain],
                before[chain],
                float(np.exp(self.log_scale[chain])),
                np.sqrt(np.sum(self.factor[chain] ** 2, axis=1)),
                self.wanted,
                seconds,
            )
            for chain in range(len(self.bits))
        )

    def _start(self) -> tuple[np.ndarray, np.ndarray]:
        """Take the likeliest of a few points for each chain, so that it need not climb far."""
        points, values = [], []
        for chain, generator in enumerate(self.starts):
            candidates = self.target.starts(generator, 100)
            spread = np.nanstd(candidates, axis=0)
            safe = np.where(np.isfinite(spread) & (spread > 0), spread, 1.0)
            self.factor[chain] = np.diag(safe)
            found = self.target.plain(candidates)
            finite = np.flatnonzero(np.isfinite(found))[:20]
            if not finite.size:
                raise StartError(
                    "No starting point: the log density was not finite at any of 100 points "
                    f"drawn from the prior. {self.target.explain(candidates)}"
                )
            best = finite[np.argmax(found[finite])]
            points.append(candidates[best])
            values.append(found[best])
        return np.stack(points), np.array(values)

    def _learn(self, draws: np.ndarray) -> None:
        """Take each chain's covariance over a window, shrunk a little towards its diagonal."""
        for chain, window in enumerate(draws):
            dimension = window.shape[1]
            covariance = np.atleast_2d(np.cov(window.T))
            weight = len(window) / (len(window) + 2 * dimension)
            mixed = weight * covariance + (1 - weight) * np.diag(np.diag(covariance))
            if np.linalg.eigvalsh(mixed)[0] <= 0:
                # The chain did not move in some direction: keep what was there.
                continue
            self.factor[chain] = np.linalg.cholesky(mixed)
            self.log_scale[chain] = np.log(2.38 / np.sqrt(dimension))

    def _many(
        self, positions: np.ndarray, values: np.ndarray, total: int, adapting: bool
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        chains, dimension = positions.shape
        draws = np.empty((chains, total, dimension))
        statistics = np.zeros((chains, total, len(STATISTICS)))
        statistics[:, :, _COLUMN["energy"]] = np.nan
        at = 0
        while at < total and not self.stop.is_set():
            positions, values, accepted = self._one_draw(positions, values, adapting, at)
            draws[:, at] = positions
            statistics[:, at, _COLUMN["log_density"]] = values
            statistics[:, at, _COLUMN["acceptance"]] = accepted
            statistics[:, at, _COLUMN["steps"]] = self.proposals
            statistics[:, at, _COLUMN["step_size"]] = np.exp(self.log_scale)
            at += 1
            self.done += 1
            self.steps += self.proposals
        return draws[:, :at], statistics[:, :at], positions, values

    def _one_draw(
        self, positions: np.ndarray, values: np.ndarray, adapting: bool, at: int
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Make the proposals of one draw; return points, values and mean acceptances."""
        size = (self.proposals, positions.shape[1])
        normal = np.stack([bits.standard_normal(size) for bits in self.bits])
        noise = np.einsum("cij,cpj->pci", self.factor, normal)
        chances = np.log(np.stack([bits.random(self.proposals) for bits in self.bits], axis=1))
        total = np.zeros(len(values))
        rate = 1 / np.sqrt(1 + at * self.proposals / 10)
        for step, chance in zip(noise, chances, strict=True):
            candidates = positions + np.exp(self.log_scale)[:, None] * step
            there = self.target.plain(candidates)
            there = np.where(np.isnan(there), -np.inf, there)
            log_ratio = np.minimum(0.0, there - values)
            taken = chance < log_ratio
            positions = np.where(taken[:, None], candidates, positions)
            values = np.where(taken, there, values)
            total += np.exp(log_ratio)
            if adapting:
                self.log_scale += rate * (np.exp(log_ratio) - self.wanted)
        return positions, values, total / self.proposals
