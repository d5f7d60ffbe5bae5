"""Series simulated from equations with expectations."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import pandas as pd

from millwright.display import frame_text
from millwright.draws.simulated import Simulated, statistics_of_numbers
from millwright.errors import ArgumentError

__all__ = ["SimulatedSeries"]


@dataclass(frozen=True, eq=False)
class SimulatedSeries(Simulated):
    """Simulated unknowns and series.

    Attributes
    ----------
    times
        The column of times, if there is one.
    """

    times: pd.DataFrame | None = field(default=None, repr=False)

    def _looked_at(self) -> dict[str, dict[str, np.ndarray]]:
        return {name: statistics_of_numbers(values) for name, values in self.outcomes.items()}

    def data(self, draw: int) -> pd.DataFrame:
        """Return one simulated table, shaped like the data given; see `Simulated.data`."""
        size = len(next(iter(self.outcomes.values())))
        if not isinstance(draw, int) or not -size <= draw < size:
            raise ArgumentError(f"`draw` must be a whole number from 0 to {size - 1}.")
        frame = pd.DataFrame({name: values[draw] for name, values in self.outcomes.items()})
        if self.times is None:
            return frame
        return pd.concat([self.times.reset_index(drop=True), frame], axis=1)

    def __str__(self) -> str:
        size = len(next(iter(self.outcomes.values())))
        lines = [self.ninety_percent(name) for name in self.outcomes]
        return "\n".join([*lines, f"{size} simulated data sets:", frame_text(self.table())])
