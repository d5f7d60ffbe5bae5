"""What chains of independent candidates have in common: no warm-up, and batch after batch."""

from __future__ import annotations

import time
from abc import ABC, abstractmethod
from typing import Generic, TypeVar

from millwright.sampling.piece import Piece, joined
from millwright.sampling.progress import ChainProgress
from millwright.sampling.sampler import FitSettings, Stop
from millwright.sampling.state import UnitState
from millwright.sampling.target import TargetDensity

__all__ = ["Independent"]

AnyState = TypeVar("AnyState", bound=UnitState)
AnyMethod = TypeVar("AnyMethod")


class Independent(ABC, Generic[AnyState, AnyMethod]):
    """A method whose candidates do not rest on where a chain is; each chain is a unit."""

    def __init__(
        self,
        target: TargetDensity,
        settings: FitSettings,
        chains: int,
        seed: int,
        method: AnyMethod,
    ) -> None:
        self.target = target
        self.settings = settings
        self.units = self.chains = chains
        self.seed = seed
        self.method = method

    @abstractmethod
    def batch(self, state: AnyState) -> tuple[AnyState, Piece]:
        """Make some draws."""

    @abstractmethod
    def tried(self, state: AnyState) -> int:
        """Return how many candidates a chain went through so far."""

    def advance(
        self, state: AnyState, seconds: float, stop: Stop
    ) -> tuple[AnyState, tuple[Piece, ...]]:
        """Make batches of draws for about so many seconds, or to the end."""
        until = time.perf_counter() + seconds
        pieces = [Piece.empty(self.target.dimension)]
        while state.done < self.settings.total and not stop.is_set():
            began = time.perf_counter()
            state, piece = self.batch(state)
            pieces.append(piece)
            now = time.perf_counter()
            state = state.after(now - began, warming=False)
            if now >= until:
                break
        return state, (joined(pieces),)

    def progress(self, state: AnyState) -> tuple[ChainProgress, ...]:
        """Say how far the chain is."""
        return (
            ChainProgress(
                chain=state.unit,
                warming=False,
                done=state.done,
                total=self.settings.total,
                divergences=0,
                steps=self.tried(state),
            ),
        )
