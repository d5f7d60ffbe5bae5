"""A user's table, as a study uses it: columns found, labels named, gaps counted."""

from __future__ import annotations

import keyword
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from millwright.checks import check_list
from millwright.errors import ArgumentError, DataError, nearest
from millwright.language.parse import normal_name
from millwright.language.vocabulary import RESERVED
from millwright.modelling.tables import reads_as_number
from millwright.wording import setting

__all__ = [
    "Names",
    "complete_rows",
    "joined_labels",
    "label_order",
    "label_text",
    "labels_in",
    "named",
    "numbers_in",
    "quoted",
    "table_of",
]

_LARGEST = 1e100
_ALL_DIGITS = 1e15
"""Whole numbers below it are written with all digits, larger ones with an exponent."""


def table_of(data: Any) -> pd.DataFrame:
    """Return a DataFrame or a mapping of columns as a table; shorter columns end in gaps.

    Raises
    ------
    DataError
        If it is neither, has no rows, or two columns of one name.
    """
    if isinstance(data, Mapping):
        try:
            columns = {str(name): pd.Series(_flat(values)) for name, values in data.items()}
        except (TypeError, ValueError) as error:
            raise DataError(f"The columns of the data cannot be read: {error}.") from error
        frame = pd.DataFrame(columns)
    elif isinstance(data, pd.DataFrame):
        frame = data.reset_index(drop=True)
        frame.columns = pd.Index([str(name) for name in data.columns])
    else:
        raise DataError(
            f"A study takes a DataFrame or a mapping of columns, not {type(data).__name__}."
        )
    if frame.columns.has_duplicates:
        twice = frame.columns[frame.columns.duplicated()][0]
        raise DataError(f"The table has two columns called `{twice}`.")
    if not len(frame):
        raise DataError("The table has no rows.")
    return frame


def _flat(values: Any) -> Any:
    if isinstance(values, pd.Series):
        return values.reset_index(drop=True)
    if isinstance(values, pd.Categorical):
        return values
    found = np.asarray(values)
    if found.ndim != 1:
        raise ValueError("each column is a list of values")
    return values if isinstance(values, list) else found


def find_column(frame: pd.DataFrame, name: Any, what: str) -> str:
    """Return the name of a column.

    Raises
    ------
    ArgumentError
        If it was not given, or there is none of that name.
    """
    if name is not None and str(name) in frame.columns:
        return str(name)
    columns = list(frame.columns)
    if name is None:
        raise ArgumentError(
            f"Say which column is the {what}: {setting(what)}. Columns: {', '.join(columns)}."
        )
    raise ArgumentError(
        f"There is no column `{name}` for {setting(what)}.{nearest(str(name), columns)} "
        f"Columns: {', '.join(columns)}."
    )


def numbers_in(frame: pd.DataFrame, name: Any, what: str) -> pd.Series:
    """Return a column of numbers as float64, gaps as NaN.

    Raises
    ------
    DataError
        If it holds text, or a number that is not finite.
    """
    column = frame[find_column(frame, name, what)]
    if column.dtype.kind in "mMc":
        raise DataError(
            f"`{name}` holds {column.dtype}, not plain numbers ({what}): turn dates into days or "
            "years first."
        )
    try:
        if column.dtype.kind not in "biuf" and not pd.api.types.is_numeric_dtype(column):
            column = pd.to_numeric(column)
        values = column.astype(float)
    except (TypeError, ValueError) as error:
        wrong = next((v for v in column if not reads_as_number(v)), None)
        raise DataError(
            f"`{name}` is to be a column of numbers ({what}), and holds {wrong!r}."
        ) from error
    if np.isinf(values).any():
        row = int(np.flatnonzero(np.isinf(values.to_numpy()))[0]) + 1
        raise DataError(f"`{name}` is infinite in row {row}; numbers must be finite.")
    _check_size(values.dropna().to_numpy(), name, what)
    return values


def _check_size(values: np.ndarray, name: Any, what: str) -> None:
    """Refuse numbers, or differences of them, whose squares no number holds."""
    if not len(values):
        return
    farthest = values[np.argmax(np.abs(values))]
    if abs(farthest) > _LARGEST or 0.0 < np.ptp(values) < 1.0 / _LARGEST:
        raise DataError(
            f"`{name}` ({what}) has values such as {farthest:g}, whose squares no number holds: "
            "give the column in another unit."
        )


def quoted(column: str) -> str:
    """Return a column as a formula writes it."""
    return column if column.isidentifier() else f"`{column}`"


def labels_in(frame: pd.DataFrame, name: Any, what: str) -> pd.Series:
    """Return a column of labels as text, gaps as None; whole numbers lose their `.0`."""
    column = frame[find_column(frame, name, what)]
    if column.dtype.kind == "c":
        raise DataError(f"`{name}` ({what}) holds complex numbers, which are no labels.")
    texts = [None if pd.isna(value) else label_text(value) for value in column]
    return pd.Series(texts, index=frame.index, dtype=object, name=column.name)


def label_text(value: Any) -> str:
    """Return a label as text, with all its digits; whole numbers lose their `.0`."""
    if isinstance(value, float) and value.is_integer() and abs(value) < _ALL_DIGITS:
        return str(int(value))
    return str(value)


def joined_labels(frame: pd.DataFrame, names: str) -> np.ndarray:
    """Return the labels of a column, or of several joined by colons, one a row."""
    pieces = [labels_in(frame, piece.strip(), "per") for piece in names.split(":")]
    return np.array([":".join(map(str, row)) for row in zip(*pieces, strict=True)], dtype=object)


def label_order(
    frame: pd.DataFrame, name: str, texts: pd.Series, chosen: Sequence[Any] | None
) -> list[str]:
    """Return the labels in their order: as chosen, as the categories, or sorted.

    Raises
    ------
    ArgumentError
        For a chosen label that is not in the data, or one given twice.
    """
    there = set(texts.dropna())
    column = frame[name]
    if chosen is not None:
        wanted = [label_text(one) for one in check_list("labels", chosen)]
        if not wanted:
            raise ArgumentError(f"{setting('labels')} names no label.")
        for one in wanted:
            if one not in there:
                raise ArgumentError(
                    f"No row has `{one}` in `{name}`.{nearest(one, there)} "
                    f"Labels: {', '.join(sorted(there))}."
                )
        if len(set(wanted)) < len(wanted):
            raise ArgumentError(f"{setting('labels')} names a label twice: {', '.join(wanted)}.")
        return wanted
    if isinstance(column.dtype, pd.CategoricalDtype):
        return [text for text in map(label_text, column.cat.categories) if text in there]
    if pd.api.types.is_numeric_dtype(column) and not pd.api.types.is_bool_dtype(column):
        return list(dict.fromkeys(label_text(value) for value in sorted(column.dropna())))
    return sorted(there)


def complete_rows(
    frame: pd.DataFrame, missing: str, columns: Iterable[str] | None = None
) -> tuple[pd.DataFrame, tuple[str, ...]]:
    """Return the rows without gaps, and a sentence that counts those left out.

    Raises
    ------
    ArgumentError
        If `missing` is neither `refuse` nor `drop`.
    DataError
        If there are gaps and they are to be refused, or no row is left.
    """
    if missing not in ("refuse", "drop"):
        raise ArgumentError(f"`missing` must be 'refuse' or 'drop', not {missing!r}.")
    names = list(frame.columns if columns is None else columns)
    gaps = frame[names].isna()
    rows = gaps.any(axis=1)
    count = int(rows.sum())
    if not count:
        return frame, ()
    where = ", ".join(f"`{name}` in {int(gaps[name].sum())}" for name in names if gaps[name].any())
    if missing == "refuse":
        first = [str(at + 1) for at in np.flatnonzero(rows.to_numpy())[:5]]
        raise DataError(
            f"Values are missing in {count} of {len(frame)} rows ({where}; first in "
            f"row {', '.join(first)}). To leave these rows out: {setting('missing', 'drop')}."
        )
    if count == len(frame):
        raise DataError(f"Every row lacks a value ({where}): nothing is left.")
    left = frame[~rows].reset_index(drop=True)
    return left, (f"{count} of {len(frame)} rows left out for missing values ({where}).",)


@dataclass(frozen=True)
class Names:
    """How a model calls columns: their own names where these can be written, else others.

    Attributes
    ----------
    of
        The name in the model by column.
    aliases
        Columns of those that have another name there, as `Model` takes them.
    """

    of: Mapping[str, str]
    aliases: Mapping[str, str]


def named(columns: Mapping[str, str], taken: Iterable[str]) -> Names:
    """Return names for columns in a model.

    Parameters
    ----------
    columns
        By column the name that it gets where its own cannot be used.
    taken
        Names of the model's definitions.
    """
    used = {*taken, *RESERVED}
    of: dict[str, str] = {}
    aliases: dict[str, str] = {}
    others = {normal_name(column) for column in columns}
    for column, spare in columns.items():
        own = normal_name(column)
        if own == column and own.isidentifier() and not keyword.iskeyword(own) and own not in used:
            of[column] = own
        else:
            name = _written(column) or spare
            while name in used or name in others:
                name += "_"
            of[column] = name
            aliases[name] = column
        used.add(of[column])
    return Names(of, aliases)


def _written(column: str) -> str:
    """Return a column's name with what the model language cannot write taken out."""
    word = re.sub(r"\W+", "_", normal_name(column)).strip("_")
    return word if word.isidentifier() and not keyword.iskeyword(word) else ""
