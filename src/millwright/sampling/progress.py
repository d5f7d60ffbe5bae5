"""What a running fit reports: plain values that any face can draw."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

__all__ = ["ChainProgress", "DataSetCount", "Listener", "Progress"]


@dataclass(frozen=True, kw_only=True)
class ChainProgress:
    """How far one chain is.

    Attributes
    ----------
    done, total
        Transitions, warm-up included.
    divergences
        Divergent transitions after warm-up.
    steps
        Leapfrog steps so far, or moves.
    moves
        Moves for each transition, where the method makes several; 0 where it does not say.
    """

    chain: int
    warming: bool
    done: int
    total: int
    divergences: int
    steps: int
    moves: int = 0


@dataclass(frozen=True)
class DataSetCount:
    """How many of many data sets are fitted; those under way count in part."""

    done: float
    total: int


@dataclass(frozen=True)
class Progress:
    """How far a fit, or many, is; `seconds` have gone by since it began."""

    stage: Literal["searching", "compiling", "weighing", "sampling", "finished", "stopped"]
    seconds: float
    chains: tuple[ChainProgress, ...] = ()
    data_sets: DataSetCount | None = None

    @property
    def share(self) -> float:
        """Share of all transitions that are done, from 0 to 1."""
        if self.data_sets is not None:
            return self.data_sets.done / self.data_sets.total if self.data_sets.total else 1.0
        total = sum(chain.total for chain in self.chains)
        return sum(chain.done for chain in self.chains) / total if total else 0.0

    @property
    def divergences(self) -> int:
        """Divergent transitions after warm-up, over all chains."""
        return sum(chain.divergences for chain in self.chains)


Listener = Callable[[Progress], None]
