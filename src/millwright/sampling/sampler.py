"""What all samplers have in common: settings, and work in units that can be sent anywhere."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Protocol

from millwright.sampling.piece import Piece
from millwright.sampling.progress import ChainProgress

__all__ = ["NEVER", "FitSettings", "Sampler", "Stop", "chains_of"]


@dataclass(frozen=True)
class FitSettings:
    """How much to sample.

    Attributes
    ----------
    draws, warmup
        Kept draws and discarded transitions of each chain.
    thin
        Transitions for each kept draw.
    """

    draws: int = 1000
    warmup: int = 1000
    thin: int = 1

    @property
    def total(self) -> int:
        """Transitions of each chain, warm-up included."""
        return self.warmup + self.draws * self.thin


def chains_of(unit: int, count: int) -> range:
    """Number the chains of a unit: one a unit, or all in a single unit."""
    return range(unit, unit + 1) if count == 1 else range(count)


class Stop(Protocol):
    """Whether a unit should stop at its next block; a `threading.Event` is one."""

    def is_set(self) -> bool:
        """Whether to stop."""


class _Never:
    def is_set(self) -> bool:
        return False


NEVER = _Never()


class Sampler(Protocol):
    """A method with its target and settings.

    A unit of work is one chain, or all of them where they move together. Its draws depend on
    its state alone, not on how many blocks it was advanced in, nor where.
    """

    units: int
    chains: int
    settings: FitSettings

    def prepare(self) -> None:
        """Compile, and find what all units share."""

    def start(self, unit: int) -> Any:
        """Return the first state of a unit.

        Raises
        ------
        StartError
            If no starting point has a finite density.
        """

    def advance(self, state: Any, seconds: float, stop: Stop) -> tuple[Any, tuple[Piece, ...]]:
        """Go on for about so many seconds; return the new state and a piece a chain."""

    def progress(self, state: Any) -> tuple[ChainProgress, ...]:
        """Say how far each chain of a unit is."""

    def report(self, state: Any) -> tuple[dict[str, Any], ...]:
        """Return what each chain of a unit settled on, as plain values."""
