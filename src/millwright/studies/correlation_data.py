"""The data of a study of correlation: columns of numbers, as they are or as normal scores."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations
from typing import Any

import numpy as np
import pandas as pd
from scipy.special import ndtri

from millwright.errors import ArgumentError, DataError
from millwright.studies.reading import complete_rows, numbers_in, table_of
from millwright.wording import setting

__all__ = ["CorrelationData", "column_table"]

_MOST_COLUMNS = 20
_EXACT = 1e-14


@dataclass(frozen=True, kw_only=True)
class CorrelationData:
    """Columns of numbers, of which each pair is looked at.

    Attributes
    ----------
    frame
        The columns; rows with gaps are left out pair by pair.
    """

    frame: pd.DataFrame
    remarks: tuple[str, ...] = ()

    @property
    def pairs(self) -> tuple[tuple[str, str], ...]:
        """Each pair of columns, in their order."""
        return tuple(combinations(map(str, self.frame.columns), 2))

    def rows(self, pair: tuple[str, str]) -> pd.DataFrame:
        """Return the complete rows of two columns."""
        return self.frame[list(pair)].dropna().reset_index(drop=True)


def column_table(
    data: Any,
    first: Any,
    second: Any,
    columns: Sequence[Any] | None,
    missing: str,
    ranks: bool,
) -> CorrelationData:
    """Return the columns that are asked for, by default all of numbers.

    Raises
    ------
    ArgumentError
        For columns that are not there.
    DataError
        For constant columns, too few rows, or points on a line.
    """
    frame = table_of(data)
    names = _names(frame, first, second, columns)
    table = pd.DataFrame({name: numbers_in(frame, name, "columns") for name in names})
    remarks: tuple[str, ...] = ()
    if missing == "pairs":
        gaps = table.isna().sum()
        some = [f"`{name}` {count}" for name, count in gaps.items() if count]
        if some:
            remarks = (
                f"Missing values: {', '.join(some)}. Each pair uses the rows that are complete in "
                "it, so pairs may rest on different rows.",
            )
    else:
        if missing not in ("refuse", "drop"):
            raise ArgumentError(f"`missing` must be 'refuse', 'drop' or 'pairs', not {missing!r}.")
        table, remarks = complete_rows(table, missing)
    if ranks:
        table = table.apply(_scores)
    found = CorrelationData(frame=table, remarks=remarks)
    for pair in found.pairs:
        _check(found.rows(pair), pair)
    return found


def _names(
    frame: pd.DataFrame, first: Any, second: Any, columns: Sequence[Any] | None
) -> list[str]:
    if columns is not None:
        if first is not None or second is not None:
            raise ArgumentError(
                f"Give either {setting('first')} and {setting('second')}, or {setting('columns')}."
            )
        names = [str(name) for name in columns] if not isinstance(columns, str) else [columns]
    elif first is not None or second is not None:
        if first is None or second is None:
            raise ArgumentError(f"Give both {setting('first')} and {setting('second')}.")
        names = [str(first), str(second)]
    else:
        numeric = [c for c in frame.columns if pd.api.types.is_numeric_dtype(frame[c])]
        names = [c for c in numeric if not pd.api.types.is_bool_dtype(frame[c])]
    if len(names) < 2:
        raise DataError("A correlation needs two columns of numbers.")
    if len(set(names)) < len(names):
        raise ArgumentError(f"A column is named twice: {', '.join(names)}.")
    if len(names) > _MOST_COLUMNS:
        raise ArgumentError(
            f"{len(names)} columns make {len(names) * (len(names) - 1) // 2} pairs; choose up to "
            f"{_MOST_COLUMNS} with {setting('columns')}."
        )
    return names


def _scores(column: pd.Series) -> pd.Series:
    """Return the normal scores of ranks (Blom 1958); equal values share their mean rank."""
    known = column.notna()
    result = pd.Series(np.nan, index=column.index)
    n = int(known.sum())
    ranks = column[known].rank().to_numpy()
    result[known] = ndtri((ranks - 0.375) / (n + 0.25))
    return result


def _check(rows: pd.DataFrame, pair: tuple[str, str]) -> None:
    n = len(rows)
    if n < 3:
        raise DataError(
            f"`{pair[0]}` and `{pair[1]}` have {n} complete rows; a correlation needs three or "
            "more."
        )
    values = rows.to_numpy(float)
    for name, column in zip(pair, values.T, strict=True):
        if np.ptp(column) <= 1e-13 * np.abs(column).max():
            raise DataError(
                f"All {n} values of `{name}` are {column[0]:g}: what does not vary has no "
                "correlation. Leave it out."
            )
    a, b = (column - column.mean() for column in values.T)
    a, b = a / np.linalg.norm(a), b / np.linalg.norm(b)
    apart = min(np.sum((a - b) ** 2), np.sum((a + b) ** 2)) / 2
    if apart < _EXACT:
        sign = "1" if np.sum(a * b) > 0 else "-1"
        raise DataError(
            f"`{pair[0]}` and `{pair[1]}` lie on a line: r is exactly {sign}, as where one is "
            "computed from the other. There is nothing left to estimate."
        )
