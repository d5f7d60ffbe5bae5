"""What a posterior holds: draws, and everything that made them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from millwright.diagnostics.measures import Measures, measure
from millwright.diagnostics.modes import Modes
from millwright.diagnostics.verdict import Verdict
from millwright.draws.labelled_draws import Draws
from millwright.fitting.job import Fitted, Trail
from millwright.fitting.record import Record
from millwright.posterior.modes_visited import modes_visited
from millwright.posterior.verdict import verdict_of

__all__ = ["Held"]


@dataclass(frozen=True, eq=False)
class Held:
    """Draws, tied to the model, data, seed and settings that made them."""

    draws: Draws = field(repr=False)
    record: Record
    statistics: Mapping[str, np.ndarray] = field(repr=False)
    sheet: str | None = field(default=None, repr=False)
    trail: Trail | None = field(default=None, repr=False)

    @property
    def _fitted(self) -> Fitted:
        return Fitted(self.draws, self.record, self.statistics, self.trail)

    @cached_property
    def measures(self) -> Measures:
        """Convergence numbers of every unknown and derived quantity."""
        return measure(self.draws.single())

    @cached_property
    def _modes(self) -> Modes:
        """Separate modes that a search found before sampling, and the draws around each."""
        return modes_visited(self.draws, self.record)

    @cached_property
    def verdict(self) -> Verdict:
        """Whether the draws can be used, in words."""
        return verdict_of(self._fitted, self.measures)
