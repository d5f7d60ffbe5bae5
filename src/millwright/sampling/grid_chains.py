"""Chains of candidates from a grid, each taken or refused (Metropolis-Hastings; Tierney 1994).

Candidates do not rest on where a chain is. What the approximation leaves out is made good by
taking a candidate with the probability min(1, its weight over that of the present point).
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from millwright.sampling.independent import Independent
from millwright.sampling.latent_candidates import LatentCandidates, WeightedCandidates
from millwright.sampling.methods import LaplaceGrid
from millwright.sampling.piece import STATISTICS, Piece
from millwright.sampling.state import UnitState

__all__ = ["GridSampler", "GridState"]

_COLUMN = {name: at for at, name in enumerate(STATISTICS)}
_BATCH = 128
_MOST_STEPS = 20


@dataclass(frozen=True, kw_only=True)
class GridState(UnitState):
    """Where a chain is.

    Attributes
    ----------
    position, log_density, log_weight
        The point at which the present batch of candidates begins, shape (dimension,), its log
        density and log weight.
    taken
        How many candidates were taken, of those that the draws so far went through.
    """

    position: np.ndarray
    log_density: float
    log_weight: float
    taken: int = 0


class GridSampler(Independent[GridState, LaplaceGrid]):
    """Independent candidates from a grid with Laplace's approximation, corrected by chains."""

    @cached_property
    def candidates(self) -> LatentCandidates:
        """Where candidates come from."""
        assert self.target.latent is not None
        return LatentCandidates(self.target, self.target.latent, self.seed)

    @property
    def steps(self) -> int:
        """Candidates for each kept draw: by default as many as make draws nearly independent."""
        if self.method.steps is not None:
            return self.method.steps
        return int(np.clip(round(1 / self.candidates.pilot.efficiency), 1, _MOST_STEPS))

    def prepare(self) -> None:
        """Grow the grid and try the first candidates."""
        self.candidates.check()

    def start(self, unit: int) -> GridState:
        """Begin a chain at one of the first candidates, by their weights."""
        generator = self._generator(unit)
        pilot = self.candidates.pilot
        weights = np.exp(pilot.log_weights - pilot.log_weights.max())
        at = int(generator.choice(len(weights), p=weights / weights.sum()))
        return GridState(
            unit=unit,
            position=pilot.positions[at],
            log_density=float(pilot.log_density[at]),
            log_weight=float(pilot.log_weights[at]),
        )

    def tried(self, state: GridState) -> int:
        """Return how many candidates a chain went through so far."""
        return state.done * self.steps

    def report(self, state: GridState) -> tuple[dict[str, Any], ...]:
        """Return the size of the grid, and how good its candidates are."""
        grid, pilot = self.candidates.grid, self.candidates.pilot
        tried = self.tried(state)
        return (
            {
                "step_size": 1.0,
                "target_acceptance": None,
                "metric": "grid",
                "cells": len(grid.points),
                "edge": grid.edge,
                "candidates_per_draw": self.steps,
                "efficiency": pilot.efficiency,
                "pareto_k": pilot.pareto_k,
                "acceptance": state.taken / max(1, tried),
                "warmup_steps": 0,
                "steps": tried,
                "seconds": [0.0, state.seconds],
            },
        )

    def _generator(self, unit: int, *batch: int) -> np.random.Generator:
        return np.random.default_rng(np.random.SeedSequence(self.seed, spawn_key=(unit, *batch)))

    def batch(self, state: GridState) -> tuple[GridState, Piece]:
        """Make the draws of the present batch that are still to be made.

        A batch has the same candidates whatever of it is asked for, so that a chain that goes on
        later has the draws of one that did not stop.
        """
        steps = self.steps
        size = max(1, _BATCH // steps)
        batch, first = divmod(state.done, size)
        last = min(size, first + self.settings.total - state.done)
        generator = self._generator(state.unit, batch)
        found = self.candidates.draw(generator, size * steps)
        chances = np.log(generator.random(size * steps))
        stays = _walk(state.log_weight, found.log_weights, chances)
        taken = (np.diff(stays, prepend=-1) != 0).reshape(size, steps)[first:last]
        every = _with_first(state, found)
        at = stays[steps - 1 :: steps][first:last]
        rows = np.zeros((len(at), len(STATISTICS)))
        rows[:, _COLUMN["log_density"]] = every.log_density[at]
        rows[:, _COLUMN["acceptance"]] = taken.mean(axis=1)
        rows[:, _COLUMN["evaluations"]] = steps
        rows[:, _COLUMN["energy"]] = np.nan
        rows[:, _COLUMN["step_size"]] = 1.0
        moved = replace(state, done=state.done + len(at), taken=state.taken + int(taken.sum()))
        if last == size:
            moved = replace(
                moved,
                position=every.positions[at[-1]],
                log_density=float(every.log_density[at[-1]]),
                log_weight=float(every.log_weights[at[-1]]),
            )
        empty = Piece.empty(self.target.dimension)
        return moved, replace(empty, positions=every.positions[at], statistics=rows)


def _walk(log_weight: float, log_weights: np.ndarray, chances: np.ndarray) -> np.ndarray:
    """Return at which candidate a chain is after each; -1 while at its first point."""
    at, stays = -1, []
    pairs = zip(log_weights.tolist(), chances.tolist(), strict=True)
    for number, (weight, chance) in enumerate(pairs):
        if chance < weight - log_weight:
            at, log_weight = number, weight
        stays.append(at)
    return np.array(stays)


def _with_first(state: GridState, found: WeightedCandidates) -> WeightedCandidates:
    """Return candidates with a chain's present point at the end, where -1 finds it."""
    return WeightedCandidates(
        positions=np.concatenate([found.positions, state.position[None]]),
        log_density=np.append(found.log_density, state.log_density),
        log_weights=np.append(found.log_weights, state.log_weight),
    )
