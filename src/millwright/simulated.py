"""Simulated unknowns and data sets."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from millwright.draws.labelled_draws import Draws
from millwright.errors import ArgumentError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Simulated"]


@dataclass(frozen=True, eq=False)
class Simulated:
    """Simulated unknowns and data sets.

    Attributes
    ----------
    outcomes
        Draws of each outcome, shape (draws, rows).
    """

    draws: Draws = field(repr=False)
    outcomes: Mapping[str, np.ndarray] = field(repr=False)

    @property
    def unknowns(self) -> pd.DataFrame:
        """Unknown and derived quantities, one row a draw."""
        import pandas as pd

        single = self.draws.single()
        return pd.DataFrame({name: value.reshape(-1) for name, value in single.items()})

    def data(self, draw: int) -> Any:
        """Return one simulated data set, shaped like the data given.

        Parameters
        ----------
        draw
            Which one, counted from 0.

        Raises
        ------
        ArgumentError
            If there is no such draw.
        """
        import pandas as pd

        size = len(next(iter(self.outcomes.values())))
        if not isinstance(draw, int) or not -size <= draw < size:
            raise ArgumentError(f"`draw` must be a whole number from 0 to {size - 1}.")
        tables = self.draws.binding.tables
        axes = dict(self.draws.binding.program.outcome_axes)
        frames: dict[str, dict[str, Any]] = {axis: {} for axis in tables.sizes}
        for column in tables.columns.values():
            if column.axes and column.name not in self.outcomes and len(column.axes) == 1:
                values: Any = column.values
                if column.levels is not None:
                    values = pd.Categorical(column.values, categories=list(column.levels))
                frames[column.axes[0]][column.name] = values
            elif len(column.axes) == 2:
                frames[column.axes[0]] |= {column.name: list(column.values)}
        for name, copies in self.outcomes.items():
            frames[axes[name][0]][name] = copies[draw]
        constants = {c.name: float(c.values) for c in tables.columns.values() if not c.axes}
        if list(frames) == ["row"] and not constants and not tables.matrix_labels:
            return pd.DataFrame(frames["row"])
        return self._nested(frames, constants)

    def _nested(self, frames: dict[str, dict[str, Any]], constants: dict[str, float]) -> Any:
        result: dict[str, Any] = dict(constants)
        for axis, columns in frames.items():
            arrays = {
                name: np.stack(value) if isinstance(value, list) else value
                for name, value in columns.items()
            }
            if axis == "row":
                result |= arrays
            else:
                result[axis.removeprefix("row_of_")] = arrays
        return result
