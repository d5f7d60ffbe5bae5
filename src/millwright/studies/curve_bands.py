"""The spread of curves over the draws."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd

from millwright.display import Shown, frame_text
from millwright.draws.intervals import IntervalKind, interval, kind_words
from millwright.errors import ArgumentError
from millwright.studies.reading import numbers_in, table_of
from millwright.wording import setting

__all__ = ["Curves", "beside_places", "is_table", "places_in_table", "places_of"]

_SHOWN = 12


@dataclass(frozen=True, eq=False, kw_only=True)
class Curves(Shown):
    """Curves of many draws at some places.

    Attributes
    ----------
    x
        The places, shape (points,).
    draws
        Shape (draws, points).
    level, kind
        Of the outer band.
    places
        The places with all columns, if a table of them was asked for.
    """

    x: np.ndarray = field(repr=False)
    draws: np.ndarray = field(repr=False)
    level: float = 0.95
    kind: IntervalKind = "central"
    places: pd.DataFrame | None = field(default=None, repr=False)

    @property
    def outer(self) -> tuple[np.ndarray, np.ndarray]:
        """The ends of the outer band, each of shape (points,)."""
        low, high = interval(self.draws, self.level, self.kind)
        return np.asarray(low), np.asarray(high)

    @property
    def inner(self) -> tuple[np.ndarray, np.ndarray]:
        """The ends of the central 68 %, each of shape (points,)."""
        low, high = np.quantile(self.draws, [0.16, 0.84], axis=0)
        return low, high

    @property
    def median(self) -> np.ndarray:
        """The median at each place."""
        return np.asarray(np.median(self.draws, axis=0))

    def to_dataframe(self) -> pd.DataFrame:
        """Return one row a place: where, median, the central 68 %, and the outer band."""
        return beside_places(self.x, self.places, self._bands())

    def _bands(self) -> pd.DataFrame:
        inner, outer = self.inner, self.outer
        return pd.DataFrame(
            {
                "median": self.median,
                "68 % central from": inner[0],
                "68 % central to": inner[1],
                f"{100 * self.level:g} % {self.kind} from": outer[0],
                f"{100 * self.level:g} % {self.kind} to": outer[1],
            }
        )

    def __str__(self) -> str:
        where, frame = _where(self.x, self.places), self._bands()
        frame.index = pd.Index(
            [
                ", ".join(f"{name} = {value:.4g}" for name, value in row.items())
                for row in where.to_dict("records")
            ]
        )
        outer = kind_words(self.kind, self.level)
        head = f"Curves at {len(self.x)} places, {len(self.draws)} draws; outer band: {outer}"
        return f"{head}\n{frame_text(frame, _SHOWN)}"


def places_of(rows: np.ndarray, x: Any, count: int) -> np.ndarray:
    """Return places as numbers, by default evenly over the range of the rows.

    Raises
    ------
    ArgumentError
        If they are no finite numbers.
    """
    if x is None:
        return np.linspace(rows.min(), rows.max(), count)
    try:
        places = np.atleast_1d(np.asarray(x, dtype=float))
    except (TypeError, ValueError) as error:
        raise ArgumentError(f"{setting('x')} is a list of numbers, not {x!r}.") from error
    if places.ndim > 1:
        raise ArgumentError(
            f"{setting('x')} is a list of numbers, or a table with all columns of the curve, not "
            f"an array of shape {places.shape}."
        )
    if not len(places) or not np.isfinite(places).all():
        raise ArgumentError(f"{setting('x')} is a list of finite numbers.")
    return places


def beside_places(x: np.ndarray, places: pd.DataFrame | None, told: pd.DataFrame) -> pd.DataFrame:
    """Return places and what is told of each; places of the same name get `(place)` behind."""
    where = _where(x, places)
    return pd.concat([where.rename(columns={n: f"{n} (place)" for n in told}), told], axis=1)


def _where(x: np.ndarray, places: pd.DataFrame | None) -> pd.DataFrame:
    return pd.DataFrame({"x": x}) if places is None else places


def is_table(x: Any) -> bool:
    """Whether places are given as a table, with every column of the curve."""
    return isinstance(x, pd.DataFrame | Mapping)


def places_in_table(columns: Sequence[str], given: Any) -> pd.DataFrame:
    """Return the places of a table, the columns of a curve alone.

    Raises
    ------
    ArgumentError
        If it is no table, lacks a column, or a place is no finite number.
    DataError
        For a table without rows, or whose columns hold no numbers.
    """
    if not is_table(given):
        raise ArgumentError(f"The places are a table with the columns {', '.join(columns)}.")
    table = table_of(given)
    found = pd.DataFrame({name: numbers_in(table, name, "x") for name in columns})
    if not np.isfinite(found.to_numpy(float)).all():
        raise ArgumentError("The places in a table are finite numbers.")
    return found.astype(float)
