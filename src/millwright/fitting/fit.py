"""A fit: its draws, and everything that made them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from millwright.draws.labelled_draws import Draws, from_positions
from millwright.fitting.record import Record
from millwright.sampling.chain_buffer import ChainBuffer
from millwright.sampling.state import UnitState

__all__ = ["Fit", "WarmupRecord"]


@dataclass(frozen=True)
class WarmupRecord:
    """What chains leave besides draws: their warm-up, where they failed, and how to go on.

    Attributes
    ----------
    states
        The state of each unit of work.
    chains
        Of each chain the warm-up, the divergences and the draws that do not fill a file.
    """

    states: Mapping[int, UnitState]
    chains: tuple[ChainBuffer, ...]

    @property
    def level(self) -> bool:
        """Whether all chains have equally many full parts: those of a stopped run may not."""
        return len({one.full for one in self.chains}) == 1

    def warmup_values(self, draws: Draws) -> Draws | None:
        """Return the warm-up's draws, cut to the shortest chain; None if they are not kept."""
        n = min(len(chain.path) for chain in self.chains)
        if not n or any(len(chain.path) != len(chain.warmup) for chain in self.chains):
            return None
        with np.errstate(over="ignore", invalid="ignore"):
            return from_positions(draws.binding, np.stack([one.path[:n] for one in self.chains]))

    def divergent_values(self, draws: Draws) -> dict[str, np.ndarray]:
        """Return each unknown number where trajectories diverged, chain after chain."""
        places = np.concatenate([chain.failures for chain in self.chains])
        names = [part.name for part in draws.binding.program.unknowns]
        if not len(places):
            return dict.fromkeys(draws.single(names), np.zeros(0))
        # Trajectories that ran off reach places that no number holds: they are infinite here.
        with np.errstate(over="ignore", invalid="ignore"):
            found = from_positions(draws.binding, places[None]).single(names)
        return {name: values[0] for name, values in found.items()}


@dataclass(frozen=True, eq=False, kw_only=True)
class Fit:
    """The result of a fit.

    Attributes
    ----------
    statistics
        The sampler's numbers by name, shape (chains, draws).
    sheet
        Text of the sheet that the model was read from.
    """

    draws: Draws = field(repr=False)
    record: Record
    statistics: Mapping[str, np.ndarray] = field(repr=False)
    warmup_record: WarmupRecord | None = field(default=None, repr=False)
    sheet: str | None = field(default=None, repr=False)
