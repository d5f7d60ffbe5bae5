"""Hamiltonian Monte Carlo with trajectories of a fixed length, on one target."""

from __future__ import annotations

import time
from typing import Any

import numpy as np

from millwright.errors import StartError
from millwright.sampling.block_tuples import StepSize
from millwright.sampling.lane_state import LaneState
from millwright.sampling.lanes import Lanes
from millwright.sampling.methods import FixedLength
from millwright.sampling.piece import Piece, joined
from millwright.sampling.progress import ChainProgress
from millwright.sampling.sampler import FitSettings, Stop
from millwright.sampling.target import TargetDensity

__all__ = ["FixedLengthSampler", "report_of"]


class FixedLengthSampler:
    """All chains in lock step, as one unit: they share a step size and a metric in warm-up."""

    units = 1

    def __init__(
        self,
        target: TargetDensity,
        settings: FitSettings,
        chains: int,
        seed: int,
        method: FixedLength,
    ) -> None:
        self.target = target
        self.settings = settings
        self.chains = chains
        self.lanes = Lanes([target], settings, chains, [seed], method)

    def prepare(self) -> None:
        """Compile the block."""
        if self.lanes.block is None:
            self.lanes.prepare()

    def start(self, unit: int) -> LaneState:
        """Find starting points with finite densities, and a step size."""
        self.prepare()
        found = self.lanes.start()[0]
        if isinstance(found, StartError):
            raise found
        return found

    def advance(
        self, state: LaneState, seconds: float, stop: Stop
    ) -> tuple[LaneState, tuple[Piece, ...]]:
        """Go on for about so many seconds, or to the end."""
        self.prepare()
        until = time.perf_counter() + seconds
        found = [(Piece.empty(self.target.dimension),) * self.chains]
        while state.done < self.settings.total and not stop.is_set():
            states, pieces = self.lanes.advance([state])
            state = states[0]
            found.append(pieces[0])
            if time.perf_counter() >= until:
                break
        return state, tuple(joined(pieces) for pieces in zip(*found, strict=True))

    def progress(self, state: LaneState) -> tuple[ChainProgress, ...]:
        """Say how far the chains are."""
        return tuple(
            ChainProgress(
                chain=chain,
                warming=state.window < len(self.lanes.windows),
                done=state.done,
                total=self.settings.total,
                divergences=int(state.divergences[chain]),
                steps=int(state.steps[chain]),
            )
            for chain in range(self.chains)
        )

    def report(self, state: LaneState) -> tuple[dict[str, Any], ...]:
        """Return the step size, metric and cost of each chain."""
        return report_of(state, self.lanes.method)


def report_of(state: LaneState, method: FixedLength) -> tuple[dict[str, Any], ...]:
    """Return what the chains of one data set have come to, as plain values."""
    return tuple(
        {
            "step_size": float(np.exp(StepSize(*state.step_size).log_mean)),
            "target_acceptance": method.target_acceptance,
            "metric": "dense",
            "warmup_steps": int(state.warmup_steps[chain]),
            "steps": int(state.steps[chain]),
            "seconds": [state.warmup_seconds, state.seconds],
        }
        for chain in range(len(state.positions))
    )
