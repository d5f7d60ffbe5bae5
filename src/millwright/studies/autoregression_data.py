"""Several series as a regression on their own past: rows, lagged columns, gaps, classical fit."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from millwright.checks import check_list
from millwright.errors import ArgumentError, DataError
from millwright.studies.reading import find_column, numbers_in, table_of
from millwright.studies.series_times import Times, times_of

__all__ = ["LEVEL", "SeriesData", "series_data", "with_index"]

LEVEL = "level"
_COLLINEAR = 1e-10
_NAMED = 6


@dataclass(frozen=True, kw_only=True)
class SeriesData:
    """Series, their times, and what they are regressed on.

    Attributes
    ----------
    frame
        One row a time, times without a row among them: series and other columns.
    series, others
        Names of the series, and of other columns that explain them.
    lags
        How many; 0 for one series that is explained by other columns alone.
    """

    frame: pd.DataFrame = field(repr=False)
    times: Times
    series: tuple[str, ...]
    others: tuple[str, ...]
    lags: int
    remarks: tuple[str, ...] = ()

    @property
    def count(self) -> int:
        """Number of times that are explained."""
        return len(self.frame) - self.lags

    @property
    def labels(self) -> tuple[str, ...]:
        """Labels of the times that are explained."""
        return self.times.labels[-self.count :]

    @cached_property
    def terms(self) -> tuple[str, ...]:
        """Names of the regressors: `level`, then each series so many steps before, then others."""
        past = [f"{name}, {lag} before" for lag in range(1, self.lags + 1) for name in self.series]
        return (LEVEL, *past, *self.others)

    @cached_property
    def values(self) -> np.ndarray:
        """The series, (times, n), gaps as NaN."""
        return self.frame[list(self.series)].to_numpy(float)

    @cached_property
    def middle(self) -> np.ndarray:
        """Means of the series, from which lagged readings are counted."""
        return np.asarray(np.nanmean(self.values, axis=0))

    @cached_property
    def other_middle(self) -> np.ndarray:
        """Means of the other columns."""
        return self.frame[list(self.others)].to_numpy(float).mean(axis=0)

    @cached_property
    def filled(self) -> np.ndarray:
        """The series with gaps filled along straight lines, where chains begin."""
        table = pd.DataFrame(self.values).interpolate(limit_direction="both")
        return table.to_numpy(float)

    def regressors(self, values: np.ndarray) -> np.ndarray:
        """Return 1, lagged readings and other columns around their means, (times, terms)."""
        past = values - self.middle
        shifted = [past[self.lags - lag : len(past) - lag] for lag in range(1, self.lags + 1)]
        other = self.frame[list(self.others)].to_numpy(float)[self.lags :] - self.other_middle
        return np.concatenate([np.ones((self.count, 1)), *shifted, other], axis=1)

    @cached_property
    def gaps(self) -> tuple[np.ndarray, np.ndarray]:
        """Time, among those explained, and series of each missing reading."""
        at, series = np.nonzero(np.isnan(self.values[self.lags :]))
        return at.astype(np.int64), series.astype(np.int64)

    @cached_property
    def classical(self) -> tuple[np.ndarray, np.ndarray]:
        """Least squares equation by equation: (n, terms) estimates and standard errors."""
        x, y = self.regressors(self.filled), self.filled[self.lags :]
        known = ~np.isnan(self.values[self.lags :]).any(axis=1)
        for lag in range(1, self.lags + 1):
            known &= ~np.isnan(self.values[self.lags - lag : len(self.values) - lag]).any(axis=1)
        x, y = x[known], y[known]
        inverse = np.linalg.pinv(x.T @ x)
        found = (inverse @ x.T @ y).T
        free = max(len(x) - x.shape[1], 1)
        left = ((y - x @ found.T) ** 2).sum(axis=0) / free
        return found, np.sqrt(left[:, None] * np.diag(inverse).clip(0.0))

    @cached_property
    def noise(self) -> np.ndarray:
        """Sds of what each series' own past leaves unexplained, for the scale of priors."""
        found = []
        for j in range(len(self.series)):
            own = self.filled[:, [j]] - self.middle[j]
            y = own[self.lags :, 0]
            past = [own[self.lags - lag : len(own) - lag] for lag in range(1, self.lags + 1)]
            x = np.concatenate([np.ones((self.count, 1)), *past], axis=1)
            left = y - x @ np.linalg.lstsq(x, y, rcond=None)[0]
            found.append(np.sqrt(left @ left / max(len(y) - x.shape[1], 1)))
        return np.array(found)


def series_data(
    data: Any,
    series: Sequence[str] | None,
    time: str | None,
    lags: int,
    others: Sequence[str],
) -> SeriesData:
    """Read series.

    Raises
    ------
    ArgumentError
        For columns that are not there, or named twice.
    DataError
        For times that are out of order or uneven, series that are constant or say what others
        say, gaps where none can be, too few rows.
    """
    frame, time = with_index(data, time)
    if time is not None:
        time = find_column(frame, time, "time")
    named = check_list("others", others)
    extra = [find_column(frame, one, "others") for one in named]
    if series is None:
        chosen = [c for c in frame.columns if c not in (time, *extra) and _numeric(frame[c])]
    else:
        wanted = check_list("series", series)
        chosen = [find_column(frame, one, "series") for one in wanted]
    _check_names(chosen, extra, time)
    times = times_of(frame, time)
    table = pd.DataFrame(
        {name: numbers_in(frame, name, "series").to_numpy() for name in [*chosen, *extra]}
    )
    table.index = pd.Index(times.places)
    table = table.reindex(range(int(times.places[-1]) + 1))
    remarks = _added_words(times)
    table, first = _from_first(table, chosen, lags)
    if first:
        remarks += (
            f"{first} times at the beginning left out: not every series has readings there, and "
            f"{lags} before the first that is explained are needed.",
        )
        places = times.places[times.places >= first] - first
        times = Times(
            name=times.name,
            first=times.first + first * int(times.step)
            if isinstance(times.first, pd.Period)
            else times.first + first * times.step,
            step=times.step,
            places=places,
            unit=times.unit,
        )
    made = SeriesData(
        frame=table.reset_index(drop=True),
        times=times,
        series=tuple(chosen),
        others=tuple(extra),
        lags=lags,
        remarks=remarks,
    )
    _check_terms(made.terms)
    _check_values(made)
    gaps = len(made.gaps[0])
    if gaps:
        words = f"{gaps} missing reading{'s' * (gaps > 1)} drawn with the unknowns."
        made = replace(made, remarks=(*remarks, words))
    return made


def with_index(data: Any, time: str | None) -> tuple[pd.DataFrame, str | None]:
    """Return the table and the column of its times, which its index may hold."""
    if isinstance(data, pd.DataFrame):
        dated = isinstance(data.index, pd.DatetimeIndex | pd.PeriodIndex)
        named = time is not None and data.index.name == time
        if (dated or named) and (time is None or time not in data.columns):
            name = time or str(data.index.name or "time")
            if name not in data.columns:
                return table_of(data.rename_axis(name).reset_index()), name
    return table_of(data), time


def _numeric(column: pd.Series) -> bool:
    return bool(pd.api.types.is_numeric_dtype(column))


def _check_names(series: list[str], others: list[str], time: str | None) -> None:
    if not series:
        raise ArgumentError("There is no series: name columns of numbers by `series`.")
    every = [*series, *others, *([time] if time else [])]
    if len(set(every)) < len(every):
        twice = next(name for name in every if every.count(name) > 1)
        raise ArgumentError(f"`{twice}` is named twice among time, series and other columns.")


def _added_words(times: Times) -> tuple[str, ...]:
    added = times.added
    if not added:
        return ()
    shown = ", ".join(added[:_NAMED])
    more = f" and {len(added) - _NAMED} more" * (len(added) > _NAMED)
    return (f"{len(added)} times have no row: {shown}{more}; their readings count as missing.",)


def _from_first(table: pd.DataFrame, series: list[str], lags: int) -> tuple[pd.DataFrame, int]:
    """Leave out times until as many complete ones stand there as there are lags."""
    whole = table[series].notna().all(axis=1).to_numpy()
    for first in range(len(table) - lags + 1):
        if whole[first : first + lags].all():
            return table.iloc[first:], first
    raise DataError(
        f"There are no {lags} times in a row at which every series has a reading: the past of the "
        "first one that is explained."
    )


def _check_terms(terms: Sequence[str]) -> None:
    """Refuse columns that are called as a term is: which is meant could not be told."""
    if len(set(terms)) < len(terms):
        twice = next(name for name in terms if list(terms).count(name) > 1)
        raise ArgumentError(
            f"A column is called `{twice}`, as a term of the equations is: rename the column."
        )


def _check_values(made: SeriesData) -> None:
    n, terms = len(made.series), len(made.terms)
    if made.count < terms + 2:
        raise DataError(
            f"There are {made.count} times that are explained, and {terms} coefficients in each "
            f"equation: at least {terms + 2} times are needed. Give fewer "
            + ("lags or series." if made.lags else "parts.")
        )
    for name in made.others:
        if made.frame[name].isna().any():
            at = int(np.flatnonzero(made.frame[name].isna().to_numpy())[0])
            raise DataError(
                f"`{name}` is missing at {made.times.labels[at]}; only series are estimated where "
                "they are missing."
            )
    for name in (*made.series, *made.others):
        values = made.frame[name].dropna().to_numpy(float)
        if np.ptp(values) <= 1e-12 * max(1.0, np.abs(values).max()):
            raise DataError(f"`{name}` is the same at all times: leave it out.")
    spread = made.filled - made.middle
    sizes = np.linalg.svd(spread / np.linalg.norm(spread, axis=0), compute_uv=False)
    if n > 1 and sizes[-1] < _COLLINEAR * sizes[0]:
        raise DataError(
            f"The series {', '.join(made.series)} can be computed from each other: leave one out."
        )
    if (made.noise <= 1e-9 * spread.std(axis=0)).any():
        at = int(np.argmin(made.noise / spread.std(axis=0)))
        raise DataError(
            f"`{made.series[at]}` is foretold wholly by its own past: there is no error to model."
        )
