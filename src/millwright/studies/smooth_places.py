"""Places along one of the columns that a shape rests on, the others held."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd
from scipy.stats import qmc

from millwright.errors import ArgumentError, nearest
from millwright.studies.curve_bands import is_table, places_in_table, places_of
from millwright.wording import setting

__all__ = ["Along", "candidate_places", "column_of", "places_along"]

_SEVERAL = 128


@dataclass(frozen=True, kw_only=True)
class Along:
    """Places along a column.

    Attributes
    ----------
    values
        The places' values of that column, shape (places,).
    places
        With all columns, shape (places, columns).
    own
        Which column it is.
    table
        The places as a table, if they were asked for so.
    """

    values: np.ndarray
    places: np.ndarray
    own: int
    table: pd.DataFrame | None = None


def column_of(columns: Sequence[str], along: str | None) -> int:
    """Return the place of a column among those of the shape; by default the first.

    Raises
    ------
    ArgumentError
        For a column that is not among them.
    """
    if along is None:
        return 0
    if along not in columns:
        raise ArgumentError(
            f"{setting('along')} is one of {', '.join(columns)}, not {along!r}."
            f"{nearest(str(along), list(columns))}"
        )
    return list(columns).index(along)


def places_along(
    rows: np.ndarray,
    columns: Sequence[str],
    x: Any,
    along: str | None,
    at: Mapping[str, float] | None,
    count: int,
) -> Along:
    """Return places along a column.

    Parameters
    ----------
    rows
        Places of the readings, (readings, columns).
    x
        Where along the column, by default evenly over its range; or a table of places with all
        columns.
    along
        The column; by default the first.
    at
        Where the others are held; by default at their medians.

    Raises
    ------
    ArgumentError
        For columns that are not there, or places that are no numbers.
    DataError
        For a table without rows, or whose columns hold no numbers.
    """
    own = column_of(columns, along)
    if is_table(x):
        if at:
            raise ArgumentError(
                f"A table of places has every column, so {setting('at')} holds nothing: leave it "
                "out."
            )
        table = places_in_table(columns, x)
        every = table.to_numpy()
        return Along(values=every[:, own], places=every, own=own, table=table)
    values = places_of(rows[:, own], x, count)
    held = np.median(rows, axis=0)
    for name, value in (at or {}).items():
        if name not in columns or columns.index(name) == own:
            others = ", ".join(one for one in columns if one != columns[own])
            raise ArgumentError(
                f"{setting('at')} holds the other columns ({others or 'there are none'}), not "
                f"`{name}`."
            )
        if not isinstance(value, int | float) or not np.isfinite(value):
            raise ArgumentError(f"{setting('at')} holds `{name}` at a number, not {value!r}.")
        held[columns.index(name)] = value
    places = np.tile(held, (len(values), 1))
    places[:, own] = values
    return Along(values=values, places=places, own=own)


def candidate_places(
    rows: np.ndarray, columns: Sequence[str], given: Any, count: int
) -> np.ndarray:
    """Return places that can be read, (places, columns).

    By default evenly over the range of one column, or well spread over those of several.

    Raises
    ------
    ArgumentError
        For places that are no numbers, or a table that lacks a column.
    DataError
        For a table without rows, or whose columns hold no numbers.
    """
    if len(columns) == 1 and not is_table(given):
        return places_of(rows[:, 0], given, count)[:, None]
    if given is None:
        unit = qmc.Sobol(len(columns), scramble=False).random(_SEVERAL)
        low, high = rows.min(axis=0), rows.max(axis=0)
        return np.asarray(low + unit * (high - low))
    return places_in_table(columns, given).to_numpy()
