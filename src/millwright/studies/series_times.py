"""The times of a series: sorted, evenly spaced, with gaps named."""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
import pandas as pd

from millwright.errors import DataError
from millwright.studies.reading import find_column, label_text

__all__ = ["Times", "stored_name", "times_of"]

_FREQUENCIES = {
    "Y": "year",
    "Q": "quarter",
    "M": "month",
    "W": "week",
    "D": "day",
    "h": "hour",
    "min": "minute",
    "s": "second",
}
_YEAR_FIRST = re.compile(r"\d{4}(\D|$)")
_MOST_GAPS = 0.5
_UNEVEN = 1e-6


@dataclass(frozen=True, kw_only=True)
class Times:
    """Evenly spaced times.

    Attributes
    ----------
    name
        The column, or `row`.
    first, step
        The first time, a number or a period, and what one step adds.
    places
        Place of each row of the table among the times.
    unit
        What one step is, in words.
    """

    name: str
    first: float | pd.Period = field(repr=False)
    step: float = field(repr=False)
    places: np.ndarray = field(repr=False)
    unit: str

    @cached_property
    def labels(self) -> tuple[str, ...]:
        """Label of each time from the first row to the last, gaps among them."""
        return self.labelled(0, int(self.places[-1]) + 1)

    @property
    def added(self) -> tuple[str, ...]:
        """Labels of times without a row."""
        there = set(self.places.tolist())
        return tuple(label for at, label in enumerate(self.labels) if at not in there)

    def after(self, count: int) -> tuple[str, ...]:
        """Labels of so many times after the last."""
        return self.labelled(len(self.labels), count)

    @property
    def column(self) -> list[float] | list[str]:
        """The times as a table stores them, so that they are read back as they are."""
        places = range(len(self.labels))
        if isinstance(self.first, pd.Period):
            every = (self.first + at * int(self.step) for at in places)
            return [str(one.start_time) for one in every]
        return [float(f"{self.first + at * self.step:.12g}") for at in places]

    def labelled(self, begin: int, count: int) -> tuple[str, ...]:
        """Labels of times by their place."""
        places = range(begin, begin + count)
        if isinstance(self.first, pd.Period):
            return tuple(str(self.first + at * int(self.step)) for at in places)
        numbers = (self.first + at * self.step for at in places)
        return tuple(label_text(float(f"{one:.10g}")) for one in numbers)


def stored_name(time: str | None, taken: Collection[str]) -> str:
    """Return the column in which a stored table has its times: `row`, unless that is taken."""
    if time is not None:
        return time
    return next(one for one in ("row", "row of the table", "time of the row") if one not in taken)


def times_of(frame: pd.DataFrame, name: str | None) -> Times:
    """Read the times of a table.

    Parameters
    ----------
    name
        A column of dates, periods or numbers; None where rows are times in their order.

    Raises
    ------
    DataError
        For times that are missing, out of order, doubled, or unevenly spaced.
    """
    if name is None:
        return Times(name="row", first=1.0, step=1.0, places=np.arange(len(frame)), unit="row")
    column = frame[find_column(frame, name, "time")]
    if column.isna().any():
        row = int(np.flatnonzero(column.isna().to_numpy())[0]) + 1
        raise DataError(f"`{name}` is missing in row {row}; every row needs its time.")
    numbers = pd.api.types.is_numeric_dtype(column)
    made = _of_numbers(name, column) if numbers else _of_dates(name, column)
    count = len(made.labels)
    if len(made.added) > _MOST_GAPS * count:
        raise DataError(
            f"`{name}`: of {count} times one {made.unit} apart {len(made.added)} have no row. Is "
            "it the right column, and are its times evenly spaced?"
        )
    return made


def _of_numbers(name: str, column: pd.Series) -> Times:
    values = column.to_numpy(float)
    _check_order(name, values, [label_text(float(one)) for one in values])
    steps = np.diff(values)
    step = float(steps.min()) if len(steps) else 1.0
    exact = (values - values[0]) / step
    places = np.rint(exact).astype(int)
    if np.abs(exact - places).max() > _UNEVEN * max(1, places[-1]):
        at = int(np.argmax(np.abs(steps / step - np.rint(steps / step))))
        raise DataError(
            f"`{name}` is unevenly spaced: from {values[at]:g} to {values[at + 1]:g} is no whole "
            f"number of steps of {step:g}."
        )
    return Times(name=name, first=float(values[0]), step=step, places=places, unit=f"{step:g}")


def _of_dates(name: str, column: pd.Series) -> Times:
    dates = _dates(name, column)
    _check_order(name, dates.astype("int64").to_numpy(float), [str(one) for one in column])
    every = ((word, pd.PeriodIndex(dates, freq=one)) for one, word in _FREQUENCIES.items())
    word, periods = next(((w, p) for w, p in every if p.is_unique), ("", None))
    if periods is None:
        raise DataError(f"`{name}` has times that are less than a second apart.")
    ordinals = periods.astype("int64").to_numpy()
    step = int(np.gcd.reduce(np.diff(ordinals))) if len(ordinals) > 1 else 1
    places = (ordinals - ordinals[0]) // max(step, 1)
    unit = word if step <= 1 else f"{step} {word}s"
    return Times(name=name, first=periods[0], step=max(step, 1), places=places, unit=unit)


def _dates(name: str, column: pd.Series) -> pd.Series:
    if isinstance(column.dtype, pd.PeriodDtype):
        return column.dt.to_timestamp()
    if column.dtype.kind != "M":
        # Day or month first cannot be told apart, and would be read wrongly without a word.
        odd = next((str(one) for one in column if not _YEAR_FIRST.match(str(one))), None)
        if odd is not None:
            raise DataError(
                f"`{name}` holds {odd!r}, which is neither a number nor a date with the year "
                "first, such as 2020-03-31."
            )
    try:
        return pd.Series(
            column if column.dtype.kind == "M" else pd.to_datetime(column, format="ISO8601")
        )
    except (TypeError, ValueError):
        pass
    try:
        return pd.Series(pd.PeriodIndex([pd.Period(str(one)) for one in column]).to_timestamp())
    except (TypeError, ValueError) as error:
        raise DataError(
            f"`{name}` cannot be read as dates such as 2020-03-31 or 2020Q1: {error}."
        ) from error


def _check_order(name: str, values: np.ndarray, texts: list[str]) -> None:
    steps = np.diff(values)
    if (steps == 0).any():
        at = int(np.argmax(steps == 0))
        raise DataError(f"`{name}` has {texts[at + 1]} twice: a time has one row.")
    if (steps < 0).any():
        at = int(np.argmax(steps < 0))
        raise DataError(
            f"`{name}` is not sorted: {texts[at]} comes before {texts[at + 1]} in row {at + 2}. "
            "Sort the rows by time first."
        )
