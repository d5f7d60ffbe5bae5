"""Simulated unknowns and data sets."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from millwright.checks import check_text
from millwright.display import Shown, frame_text
from millwright.draws.labelled_draws import Draws
from millwright.draws.outcomes import labels_of_outcome
from millwright.errors import ArgumentError
from millwright.modelling.labelled import RowAxis
from millwright.modelling.specification import Part

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Simulated", "statistics_of_numbers"]


@dataclass(frozen=True, eq=False)
class Simulated(Shown):
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

    def table(self) -> pd.DataFrame:
        """Say what simulated data sets look like, one row an outcome and statistic.

        Returns
        -------
        The central 50 % and 90 % intervals of the smallest value, mean, standard deviation and
        largest value of the simulated data sets; for an outcome of labels, of the share of each
        label. Values that are not finite are not counted.
        """
        import pandas as pd

        rows = {}
        for outcome, statistics in self._looked_at().items():
            for name, values in statistics.items():
                known = values[np.isfinite(values)]
                if known.size:
                    ends = np.quantile(known, [0.05, 0.25, 0.5, 0.75, 0.95])
                    rows[outcome, name] = ends
        columns = [
            "90 % interval, from",
            "50 % interval, from",
            "median",
            "50 % interval, to",
            "90 % interval, to",
        ]
        found = pd.DataFrame(rows, index=columns).T
        return found.rename_axis(["outcome", "of one data set"])

    def ninety_percent(self, name: str) -> str:
        """Say within which values 90 % of the simulated values of an outcome of numbers lie."""
        if check_text("name", name) not in self.outcomes:
            raise ArgumentError(f"There is no outcome `{name}`: {', '.join(self.outcomes)}.")
        values = self.outcomes[name].astype(float)
        known = values[np.isfinite(values)]
        if not known.size:
            return f"No simulated value of `{name}` is a finite number."
        low, high = np.quantile(known, [0.05, 0.95])
        return (
            f"With these priors, 90 % of the simulated values of `{name}` lie between {low:.4g} "
            f"and {high:.4g}. Is every value in this range possible, and is no possible value "
            "outside it?"
        )

    def _looked_at(self) -> dict[str, dict[str, np.ndarray]]:
        """Return statistics of each simulated data set, (draws,), by outcome."""
        return {part.name: self._statistics(part) for part in self.draws.binding.program.outcomes}

    def _statistics(self, part: Part) -> dict[str, np.ndarray]:
        values = self.outcomes[part.name].astype(float)
        flat = values.reshape(len(values), -1)
        if part.event == "label":
            labels = labels_of_outcome(self.draws.binding, part)
            return {f"share of {label}": (flat == at).mean(1) for at, label in enumerate(labels)}
        return statistics_of_numbers(flat)

    def __str__(self) -> str:
        table = self.table()
        lines = []
        for part in self.draws.binding.program.outcomes:
            values = self.outcomes[part.name].astype(float)
            known = values[np.isfinite(values)]
            if part.event != "label" and known.size:
                lines.append(self.ninety_percent(part.name))
            lost = values.size - known.size
            if lost:
                lines.append(
                    f"{lost / values.size:.1%} of the simulated values of `{part.name}` are no "
                    "finite numbers: the priors allow arguments that make no sense."
                )
        size = len(next(iter(self.outcomes.values()))) if self.outcomes else 0
        heading = f"{size} simulated data sets:"
        return "\n".join([*lines, heading, frame_text(table)])

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
                if column.order is not None:
                    values = pd.Categorical(column.values, categories=list(column.order))
                frames[column.axes[0]][column.name] = values
            elif len(column.axes) == 2 and not self._made_of_columns(column.name):
                frames[column.axes[0]] |= {column.name: list(column.values)}
        for part in self.draws.binding.program.outcomes:
            frames[axes[part.name][0]] |= self._outcome(part, self.outcomes[part.name][draw])
        constants = {c.name: float(c.values) for c in tables.columns.values() if not c.axes}
        matrices = any(isinstance(v, list) for frame in frames.values() for v in frame.values())
        if list(frames) == ["row"] and not constants and not matrices:
            return pd.DataFrame(frames["row"])
        return self._nested(frames, constants)

    def _made_of_columns(self, name: str) -> bool:
        """Whether a matrix is an outcome, or the model makes it of columns that are there."""
        made_of = dict(self.draws.binding.specification.columns).get(name)
        return name in self.outcomes or isinstance(made_of, tuple)

    def _outcome(self, part: Part, values: np.ndarray) -> dict[str, Any]:
        """Return an outcome as the columns that the model would read."""
        import pandas as pd

        binding = self.draws.binding
        if part.event == "label":
            labels = labels_of_outcome(binding, part)
            chosen = [labels[int(at)] if np.isfinite(at) else None for at in values]
            return {part.name: pd.Categorical(chosen, categories=labels, ordered=True)}
        target = dict(binding.specification.columns).get(part.name)
        if isinstance(target, tuple) and values.ndim == 2:
            return {column: values[:, at] for at, column in enumerate(target)}
        return {part.name: list(values) if values.ndim == 2 else values}

    def _nested(self, frames: dict[str, dict[str, Any]], constants: dict[str, float]) -> Any:
        result: dict[str, Any] = dict(constants)
        for axis, columns in frames.items():
            arrays = {
                name: np.stack(value) if isinstance(value, list) else value
                for name, value in columns.items()
            }
            table = RowAxis(axis).table
            if table:
                result[table] = arrays
            else:
                result |= arrays
        return result


def statistics_of_numbers(values: np.ndarray) -> dict[str, np.ndarray]:
    """Return what is looked at of each simulated data set of numbers, (draws, numbers)."""
    with np.errstate(all="ignore"):
        found = {"smallest": values.min(axis=1), "mean": values.mean(axis=1)}
        if values.shape[1] > 1:
            found["sd"] = values.std(axis=1, ddof=1)
        return found | {"largest": values.max(axis=1)}
