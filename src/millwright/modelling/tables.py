"""Data as the model sees them: numeric columns, columns of labels, tables with their rows.

A DataFrame or a flat mapping of arrays is one table, whose axis is `row`. A mapping of names
to DataFrames or mappings is several tables of their own lengths; the rows of `upper` are the
axis `row of upper`. Single numbers in a mapping are constants without an axis.
"""

from __future__ import annotations

import hashlib
import numbers
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from millwright.errors import DataError, nearest
from millwright.language.parse import normal_name
from millwright.language.vocabulary import RESERVED
from millwright.modelling.labelled import RowAxis, row_axis
from millwright.wording import setting

__all__ = ["Column", "LabelSets", "Parted", "Tables", "joined", "read_tables", "row_words"]

Label = str | int | float
LabelSets = Mapping[str, tuple[Label, ...]]


@dataclass(frozen=True)
class Column:
    """One column (or matrix of columns) of a table.

    Attributes
    ----------
    values
        float64 numbers with NaN for missing ones, or objects (str, or None for missing).
    axes
        `()`, `(rows,)`, or `(rows, label set)` for a matrix.
    levels
        Labels in the order that a categorical column states, else None.
    """

    name: str
    values: np.ndarray
    axes: tuple[str, ...]
    levels: tuple[Label, ...] | None = None

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


@dataclass(frozen=True)
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
            seen = [repr(value) for value in column.values[:3]]
            raise DataError(
                f"The column `{name}` holds text ({', '.join(seen)}, ...), but a number is "
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
        """Return the labels of a label set: a column's levels or a matrix's column names."""
        if name in self.matrix_labels:
            return self.matrix_labels[name]
        column = self.column(name)
        _, present = self._present(name)
        if column.levels is not None:
            used = set(present)
            return tuple(level for level in column.levels if level in used)
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
        return Parted(self.chosen(keep), self.chosen(away), dropped, numbers)

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
            digest.update(values.tobytes() if column.numeric else repr(list(values)).encode())
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


def read_tables(
    data: Any,
    aliases: Sequence[tuple[str, str | tuple[str, ...]]] = (),
    rows: int | None = None,
) -> Tables:
    """Read a DataFrame, a mapping of arrays, or a mapping of tables.

    Parameters
    ----------
    data
        The data, or None for a model without predictors. Tables are returned as they are.
    aliases
        Names that stand for a column, or for several as a matrix.
    rows
        Number of rows where the data have none.

    Raises
    ------
    DataError
        If lengths differ within a table or a value cannot be read.
    """
    if isinstance(data, Tables):
        return data
    columns: dict[str, Column] = {}
    sizes: dict[str, int] = {}
    matrices: dict[str, tuple[Label, ...]] = {}
    for table, content in _tables(data):
        axis = row_axis(table or "")
        for name, values in _items(content):
            key = normal_name(str(name))
            if key in columns:
                raise DataError(
                    f"The column `{key}` is in two tables; rename one, so that the model can "
                    "tell them apart."
                )
            column = _column(key, values, axis)
            _check_length(column, axis, sizes)
            if len(column.axes) == 2:
                _check_matrix_name(key)
                matrices[key] = tuple(range(1, column.values.shape[1] + 1))
            columns[key] = column
    if rows is not None:
        _check_rows(rows, sizes)
        sizes.setdefault(row_axis(), rows)
    for alias, target in aliases:
        _apply_alias(alias, target, columns, matrices)
    return Tables(columns, sizes, matrices)


def _check_matrix_name(name: str) -> None:
    if name in RESERVED or name.startswith("row of "):
        raise DataError(
            f"The matrix `{name}` would be a label set of that name, which is reserved; rename it."
        )


def _is_table(value: Any) -> bool:
    return isinstance(value, Mapping) or (hasattr(value, "columns") and hasattr(value, "iloc"))


def _tables(data: Any) -> list[tuple[str | None, Any]]:
    if data is None:
        return []
    if not _is_table(data):
        raise DataError(
            f"Data must be a DataFrame or a mapping of names to arrays, not {type(data).__name__}."
        )
    if isinstance(data, Mapping):
        nested = {name: value for name, value in data.items() if _is_table(value)}
        if nested:
            flat = {name: value for name, value in data.items() if name not in nested}
            return [*((str(n), t) for n, t in nested.items()), *([(None, flat)] if flat else [])]
    return [(None, data)]


def _items(content: Any) -> list[tuple[Any, Any]]:
    if isinstance(content, Mapping):
        return list(content.items())
    if len(set(content.columns)) < len(content.columns):
        twice = [c for c in content.columns if list(content.columns).count(c) > 1]
        raise DataError(f"The table has two columns called `{twice[0]}`.")
    return [(name, content[name]) for name in content.columns]


def _column(name: str, values: Any, axis: str) -> Column:
    if isinstance(values, numbers.Real) or np.ndim(values) == 0:
        return Column(name, _scalar(name, values), ())
    kind = getattr(getattr(values, "dtype", None), "kind", None)
    if hasattr(values, "cat"):
        return _categorical(name, values, axis)
    if kind in ("b", "i", "u", "f") and hasattr(values, "to_numpy"):
        return Column(name, values.to_numpy(dtype=float, na_value=np.nan), (axis,))
    try:
        array = np.asarray(values)
    except ValueError as error:
        raise DataError(f"The column `{name}` is not an array: {error}.") from error
    if array.dtype.kind in "biuf":
        if array.ndim > 2:
            raise DataError(
                f"The column `{name}` has {array.ndim} dimensions; at most 2 are read."
            )
        axes = (axis,) if array.ndim == 1 else (axis, name)
        return Column(name, array.astype(float), axes)
    if array.ndim != 1:
        raise DataError(f"The column `{name}` is neither numbers nor a list of labels.")
    return _objects(name, array, axis)


def _scalar(name: str, value: Any) -> np.ndarray:
    try:
        return np.asarray(float(value))
    except (TypeError, ValueError) as error:
        raise DataError(f"`{name}` is neither a number nor a column: {value!r}.") from error


def _categorical(name: str, values: Any, axis: str) -> Column:
    labels = _objects(name, np.asarray(values.astype(object)), axis)
    kept = [_label(level) for level in values.cat.categories]
    if labels.numeric:
        kept = [float(level) for level in kept if isinstance(level, int | float)]
        whole = all(level == int(level) for level in kept)  # type: ignore[arg-type]
        kept = [int(level) if whole else level for level in kept]  # type: ignore[arg-type]
    return Column(
        name, labels.values, (axis,), tuple(level for level in kept if level is not None)
    )


def _objects(name: str, array: np.ndarray, axis: str) -> Column:
    """Read a column of objects: numbers if all are, else labels as text."""
    import pandas as pd

    if pd.api.types.infer_dtype(array, skipna=True) == "string":
        # Labels repeat, so each is read once.
        codes, levels = pd.factorize(array)
        read = np.empty(len(levels) + 1, dtype=object)
        read[:] = [*map(_label, levels), None]
        return Column(name, read[codes], (axis,))
    items = [_label(value) for value in array.tolist()]
    present = [item for item in items if item is not None]
    if present and not any(isinstance(item, str) for item in present):
        filled = [np.nan if item is None else float(item) for item in items]
        return Column(name, np.array(filled), (axis,))
    texts = np.empty(len(items), dtype=object)
    texts[:] = [None if item is None else str(item) for item in items]
    return Column(name, texts, (axis,))


def _label(value: Any) -> Label | None:
    if value is None or value != value or str(value) in ("<NA>", "NaT"):
        return None
    if isinstance(value, numbers.Integral):
        return int(value)
    if isinstance(value, numbers.Real):
        return float(value)
    return normal_name(str(value))


def _check_length(column: Column, axis: str, sizes: dict[str, int]) -> None:
    if not column.axes:
        return
    length = len(column.values)
    if length == 0:
        raise DataError(f"The column `{column.name}` is empty.")
    if sizes.setdefault(axis, length) != length:
        raise DataError(
            f"The column `{column.name}` has {length} rows, the columns before it have "
            f"{sizes[axis]}. Columns of different lengths belong in tables of their own: "
            'data={"first": {...}, "second": {...}}.'
        )


def _check_rows(rows: int, sizes: Mapping[str, int]) -> None:
    if not isinstance(rows, numbers.Integral) or rows < 1:
        raise DataError(f"`rows` must be a whole number above zero, not {rows!r}.")
    if sizes.get("row", rows) != rows:
        raise DataError(f"`rows` is {rows}, but the data have {sizes['row']} rows.")


def _apply_alias(
    alias: str,
    target: str | tuple[str, ...],
    columns: dict[str, Column],
    matrices: dict[str, tuple[Label, ...]],
) -> None:
    names = [normal_name(name) for name in ([target] if isinstance(target, str) else target)]
    missing = [name for name in names if name not in columns]
    if missing:
        # An outcome may be absent when data are simulated; using the alias then says so.
        return
    if isinstance(target, str):
        old = columns.pop(names[0])
        axes = old.axes
        if names[0] in matrices:
            matrices[alias] = matrices.pop(names[0])
            axes = (old.axes[0], alias)
        columns[alias] = Column(alias, old.values, axes, old.levels)
        return
    parts = [columns[name] for name in names]
    if any(not part.numeric or part.axes != parts[0].axes for part in parts):
        raise DataError(f"`columns`: the columns of `{alias}` must be numbers of one table.")
    values = np.stack([part.values for part in parts], axis=1)
    columns[alias] = Column(alias, values, (parts[0].axes[0], alias))
    matrices[alias] = tuple(names)
