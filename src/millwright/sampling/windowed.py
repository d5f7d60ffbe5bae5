"""Samplers that warm up in windows: what their states and their work have in common."""

from __future__ import annotations

import time
from abc import ABC, abstractmethod
from dataclasses import dataclass, replace
from typing import Any, Generic, TypeVar

import numpy as np

from millwright.sampling.pace import Pace
from millwright.sampling.piece import Piece, joined
from millwright.sampling.progress import ChainProgress
from millwright.sampling.sampler import FitSettings, Stop
from millwright.sampling.state import UnitState
from millwright.sampling.target import TargetDensity
from millwright.sampling.warmup import plan

__all__ = ["WindowedSampler", "WindowedState", "closed"]


@dataclass(frozen=True, kw_only=True)
class WindowedState(UnitState):
    """Where a unit is in its warm-up.

    Attributes
    ----------
    window, within
        Which window it is in (the number of windows once the warm-up is over), and how many
        transitions of it are done.
    window_draws
        Draws of the window that something will be learned from.
    """

    window: int = 0
    within: int = 0
    window_draws: np.ndarray


AnyWindowed = TypeVar("AnyWindowed", bound=WindowedState)
AnyMethod = TypeVar("AnyMethod")


class WindowedSampler(ABC, Generic[AnyWindowed, AnyMethod]):
    """A sampler whose units go through windows of warm-up, then make draws.

    Attributes
    ----------
    cost
        Evaluations of the density for each transition of a chain.
    pace
        How long blocks should be.
    """

    def __init__(
        self,
        target: TargetDensity,
        settings: FitSettings,
        chains: int,
        seed: int,
        method: AnyMethod,
        longest: int = 1,
        cost: int = 1,
    ) -> None:
        self.target = target
        self.settings = settings
        self.units = self.chains = chains
        self.seed = seed
        self.method = method
        self.windows = plan(settings.warmup)
        self.longest = longest
        self.pace = Pace(longest)
        self.cost = cost

    @abstractmethod
    def _warm_up(self, state: AnyWindowed) -> tuple[AnyWindowed, tuple[Piece, ...]]:
        """Go on in the present window; learn from it at its end."""

    @abstractmethod
    def _draw(self, state: AnyWindowed) -> tuple[AnyWindowed, tuple[Piece, ...]]:
        """Make kept draws."""

    def _warming(self, state: AnyWindowed) -> bool:
        return state.window < len(self.windows)

    def advance(
        self, state: AnyWindowed, seconds: float, stop: Stop
    ) -> tuple[AnyWindowed, tuple[Piece, ...]]:
        """Go on for about so many seconds, or to the end."""
        until = time.perf_counter() + seconds
        empty = Piece.empty(self.target.dimension)
        found = [(empty,) * (self.chains // self.units)]
        while state.done < self.settings.total and not stop.is_set():
            began, before = time.perf_counter(), state.done
            warming = self._warming(state)
            state, pieces = self._warm_up(state) if warming else self._draw(state)
            found.append(pieces)
            now = time.perf_counter()
            self.pace.learn(state.unit, now - began, state.done - before)
            state = state.after(now - began, warming)
            if now >= until:
                break
        return state, tuple(joined(pieces) for pieces in zip(*found, strict=True))

    def _next_draws(self, state: AnyWindowed) -> int:
        """Return the transitions of the next block of kept draws: whole draws."""
        thin = self.settings.thin
        left = self.settings.total - state.done
        return max(1, min(self.pace.of(state.unit), left) // thin) * thin

    def progress(self, state: AnyWindowed) -> tuple[ChainProgress, ...]:
        """Say how far each chain of a unit is."""
        divergences, steps = self._counts(state)
        warming, total = self._warming(state), self.settings.total
        first = state.unit
        return tuple(
            ChainProgress(
                chain=chain,
                warming=warming,
                done=state.done,
                total=total,
                divergences=divergences,
                steps=steps,
                moves=self.cost,
            )
            for chain in range(first, first + self.chains // self.units)
        )

    def _counts(self, state: AnyWindowed) -> tuple[int, int]:
        """Return divergences and evaluations of each chain so far."""
        return 0, state.done * self.cost

    def _report(self, state: AnyWindowed, **settled: Any) -> dict[str, Any]:
        """Return what a chain settled on, with what it cost."""
        return {
            **settled,
            "warmup_steps": min(state.done, self.settings.warmup) * self.cost,
            "steps": state.done * self.cost,
            "seconds": [state.warmup_seconds, state.seconds],
        }


def closed(state: AnyWindowed, **learned: Any) -> AnyWindowed:
    """Return the state at the beginning of the next window."""
    nothing = state.window_draws[..., :0, :]
    return replace(state, window=state.window + 1, within=0, window_draws=nothing, **learned)
