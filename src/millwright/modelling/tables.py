"""Data as the model sees them: numeric columns, columns of labels, tables with their rows.

A DataFrame or a flat mapping of arrays is one table, whose axis is `row`. A mapping of names
to DataFrames or mappings is several tables of their own lengths; the rows of `upper` are the
axis `row of upper`. Single numbers in a mapping are constants without an axis.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from millwright.errors import DataError, nearest
from millwright.modelling.labelled import RowAxis
from millwright.wording import setting

__all__ = [
    "Column",
    "Label",
    "LabelSets",
    "Parted",
    "Tables",
    "joined",
    "reads_as_number",
    "row_words",
]


Label = str | int | float


LabelSets = Mapping[str, tuple[Label, ...]]


@dataclass(frozen=True, kw_only=True)
class Column:
    """One column (or matrix of columns) of a table.

    Attributes
    ----------
    values
        float64 numbers with NaN for missing ones, or objects (str, or None for missing).
    axes
        `()`, `(rows,)`, or `(rows, label set)` for a matrix.
    order
        Labels in the order that a categorical column states, else None.
    """

    name: str
    values: np.ndarray
    axes: tuple[str, ...]
    order: tuple[Label, ...] | None = None

    @property
    def numeric(self) -> bool:
        """Whether the column holds numbers."""
        return self.values.dtype != object

    def missing(self) -> np.ndarray:
        """Return which rows have no value, or lack one of several."""
        if not self.numeric:
            import pandas as pd

            return np.asarray(pd.isna(self.values))
        gaps = np.isnan(self.values)
        return gaps if gaps.ndim == 1 else gaps.any(axis=1)


@dataclass(frozen=True, kw_only=True)
class Parted:
    """Rows with all outcomes, and those without.

    Attributes
    ----------
    dropped
        Rows without each outcome.
    numbers
        Which rows of each table are set aside, counted from 1.
    """

    kept: Tables
    set_aside: Tables
    dropped: Mapping[str, int]
    numbers: Mapping[str, np.ndarray]


@dataclass(frozen=True)
class Tables:
    """All columns of the data by name, and the number of rows of each table."""

    columns: Mapping[str, Column]
    sizes: Mapping[str, int]
    matrix_labels: LabelSets

    def numbers(self, name: str, gaps: bool = False) -> np.ndarray:
        """Return a column as finite numbers; with `gaps`, NaN where one is missing.

        Raises
        ------
        DataError
            If it holds text, or missing or infinite values.
        """
        column = self.column(name)
        if not column.numeric:
            raise DataError(
                f"The column `{name}` holds text ({_texts(column.values)}), but a number is "
                f"needed. Text can be looked up in brackets, as in effect[{name}]."
            )
        bad = np.isinf(column.values) if gaps else ~np.isfinite(column.values)
        if bad.any():
            where = np.flatnonzero(bad if bad.ndim == 1 else bad.reshape(len(bad), -1).any(1))
            raise DataError(
                f"The column `{name}` has {len(where)} missing or infinite "
                f"value{'s' if len(where) > 1 else ''}, in {row_words(where)}. Remove or fill "
                "these rows first, so that it is clear which rows were used; rows without an "
                f"outcome can be left out with {setting('missing', 'drop')}, or predicted after "
                f"the fit with {setting('missing', 'predict')}. A predictor that the likelihood "
                "gives a distribution of its own may have gaps."
            )
        return column.values

    def column(self, name: str) -> Column:
        """Return a column, or raise DataError naming those that there are."""
        if name not in self.columns:
            have = ", ".join(f"`{column}`" for column in list(self.columns)[:12]) or "none"
            raise DataError(
                f"The data have no column `{name}`.{nearest(name, self.columns)} Columns: {have}."
            )
        return self.columns[name]

    def labels(self, name: str) -> tuple[Label, ...]:
        """Return the labels of a label set: a column's labels or a matrix's column names."""
        if name in self.matrix_labels:
            return self.matrix_labels[name]
        column = self.column(name)
        _, present = self._present(name)
        if column.order is not None:
            used = set(present)
            return tuple(level for level in column.order if level in used)
        return tuple(sorted(present))

    def _present(self, name: str) -> tuple[np.ndarray, list[Label]]:
        """Return which of the labels in a column each row has, and these; refuse missing ones."""
        import pandas as pd

        column = self.column(name)
        if len(column.axes) != 1:
            kind = "a single number" if not column.axes else "a matrix"
            raise DataError(f"`{name}` is {kind} and cannot serve as labels.")
        if column.numeric:
            codes, levels = pd.factorize(self.numbers(name))
            whole = np.all(levels == np.floor(levels))
            return codes, [int(value) if whole else float(value) for value in levels]
        codes, levels = pd.factorize(column.values)
        if (codes < 0).any():
            raise DataError(
                f"The column `{name}` has no label in {row_words(np.flatnonzero(codes < 0))}. "
                "Remove or fill these rows first."
            )
        return codes, list(levels)

    def codes(self, name: str, labels: Sequence[Label], label_set: str) -> np.ndarray:
        """Return the position in `labels` of each row's label, as int32."""
        position = {label: at for at, label in enumerate(labels)}
        codes, present = self._present(name)
        places = np.array([position.get(label, -1) for label in present], dtype=np.int32)
        unknown = [label for label in present if label not in position]
        if unknown:
            names = list(map(repr, unknown))[:4]
            rows = np.flatnonzero(places[codes] < 0)
            raise DataError(
                f"The column `{name}` has labels that are not in the label set `{label_set}`: "
                f"{', '.join(names)} (in {row_words(rows)}). It holds "
                f"{', '.join(map(repr, list(labels)[:8]))}{', ...' if len(labels) > 8 else ''}."
            )
        return places[codes]

    def complete(self, names: Sequence[str]) -> Parted:
        """Part the rows in which a named column is missing from the others."""
        keep = {axis: np.ones(size, dtype=bool) for axis, size in self.sizes.items()}
        dropped: dict[str, int] = {}
        for name in names:
            column = self.columns.get(name)
            if column is None or not column.axes:
                continue
            missing = column.missing()
            if missing.any():
                dropped[name] = int(missing.sum())
                keep[column.axes[0]] &= ~missing
        for axis, rows in keep.items():
            if self.sizes[axis] and not rows.any():
                raise DataError(f"Every row misses one of {', '.join(dropped)}: nothing is left.")
        # A table without gaps belongs to both sides.
        away = {axis: rows if rows.all() else ~rows for axis, rows in keep.items()}
        numbers = {axis: np.flatnonzero(~rows) + 1 for axis, rows in keep.items()}
        return Parted(
            kept=self.chosen(keep), set_aside=self.chosen(away), dropped=dropped, numbers=numbers
        )

    def chosen(self, rows: Mapping[str, np.ndarray]) -> Tables:
        """Return the tables with only the rows marked."""
        columns = {
            name: replace(c, values=c.values[rows[c.axes[0]]]) if c.axes else c
            for name, c in self.columns.items()
        }
        sizes = {axis: int(marked.sum()) for axis, marked in rows.items()}
        return Tables(columns, sizes, self.matrix_labels)

    def fingerprint(self, names: Sequence[str]) -> str:
        """Return a SHA-256 over the named columns, their types and their values."""
        digest = hashlib.sha256()
        for name in sorted(names):
            column = self.columns[name]
            axes = tuple(map(_axis_text, column.axes))
            digest.update(repr((name, axes, column.values.shape)).encode())
            values = column.values
            # The bytes themselves: a copy would be another column of many rows.
            held = np.ascontiguousarray(values).data if column.numeric else None
            digest.update(repr(list(values)).encode() if held is None else held)
        return digest.hexdigest()


def _axis_text(axis: str) -> str:
    """Return an axis as fingerprints have always known it."""
    return f"row_of_{axis.table}" if isinstance(axis, RowAxis) and axis.table else str(axis)


def joined(first: Tables, second: Tables) -> Tables:
    """Return the rows of `first` and then those of `second`, for the columns that both have."""
    columns = {}
    for name, column in first.columns.items():
        other = second.columns.get(name)
        if other is None or other.axes != column.axes or other.numeric != column.numeric:
            continue
        if column.axes:
            column = replace(column, values=np.concatenate([column.values, other.values]))
        columns[name] = column
    sizes = {axis: size + second.sizes.get(axis, 0) for axis, size in first.sizes.items()}
    return Tables(columns, sizes, first.matrix_labels)


def row_words(rows: Sequence[int] | np.ndarray) -> str:
    """Name the first few of `rows` (positions from 0), counting from 1."""
    shown = [str(int(row) + 1) for row in list(rows)[:5]]
    more = f" and {len(rows) - 5} more" if len(rows) > 5 else ""
    return f"row{'s' if len(rows) > 1 else ''} {', '.join(shown)}{more} (counting from 1)"


def _texts(values: np.ndarray) -> str:
    """Name the first texts among values, with their rows where the others are numbers."""
    given = [(row, value) for row, value in enumerate(values, 1) if value is not None]
    texts = [(row, value) for row, value in given if not reads_as_number(value)]
    if not texts or len(texts) == len(given):
        return ", ".join(repr(value) for _, value in given[:3]) + ", ..."
    told = ", ".join(f"{value!r} in row {row}" for row, value in texts[:3])
    return told + (", ..." if len(texts) > 3 else "")


def reads_as_number(value: Any) -> bool:
    """Whether a value, or what a text says, is a number."""
    try:
        float(value)
    except (TypeError, ValueError):
        return False
    return True
