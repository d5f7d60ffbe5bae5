"""A user's data, read into checked tables."""

from __future__ import annotations

import numbers
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import numpy as np

from millwright.errors import DataError
from millwright.language.parse import normal_name
from millwright.language.vocabulary import RESERVED
from millwright.modelling.labelled import row_axis
from millwright.modelling.tables import Column, Label, Tables

__all__ = ["read_tables"]


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
    columns, matrices = _renamed(aliases, columns, matrices)
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
        return Column(name=name, values=_scalar(name, values), axes=())
    kind = getattr(getattr(values, "dtype", None), "kind", None)
    if hasattr(values, "cat"):
        return _categorical(name, values, axis)
    if kind in ("b", "i", "u", "f") and hasattr(values, "to_numpy"):
        # A copy: the column of a table that is changed after a fit would change what was fitted.
        own = values.to_numpy(dtype=float, na_value=np.nan, copy=True)
        return Column(name=name, values=own, axes=(axis,))
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
        return Column(name=name, values=array.astype(float), axes=axes)
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
        name=name,
        values=labels.values,
        axes=(axis,),
        order=tuple(level for level in kept if level is not None),
    )


def _objects(name: str, array: np.ndarray, axis: str) -> Column:
    """Read a column of objects: numbers if all are, else labels as text."""
    import pandas as pd

    if pd.api.types.infer_dtype(array, skipna=True) == "string":
        # Labels repeat, so each is read once.
        codes, levels = pd.factorize(array)
        read = np.empty(len(levels) + 1, dtype=object)
        read[:] = [*map(_label, levels), None]
        return Column(name=name, values=read[codes], axes=(axis,))
    items = [_label(value) for value in array.tolist()]
    present = [item for item in items if item is not None]
    if present and not any(isinstance(item, str) for item in present):
        filled = [np.nan if item is None else float(item) for item in items]
        return Column(name=name, values=np.array(filled), axes=(axis,))
    texts = np.empty(len(items), dtype=object)
    texts[:] = [None if item is None else str(item) for item in items]
    return Column(name=name, values=texts, axes=(axis,))


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


def _renamed(
    aliases: Iterable[tuple[str, str | tuple[str, ...]]],
    columns: Mapping[str, Column],
    matrices: Mapping[str, tuple[Label, ...]],
) -> tuple[dict[str, Column], dict[str, tuple[Label, ...]]]:
    """Return columns under the names that the model has for them, and labels of matrices.

    All at once, so that names may change places. A column that is absent keeps none: an outcome
    may be, when data are simulated, and using the name then says so.
    """
    known = {
        alias: [normal_name(name) for name in ([target] if isinstance(target, str) else target)]
        for alias, target in aliases
    }
    single = {alias: isinstance(target, str) for alias, target in aliases}
    known = {alias: names for alias, names in known.items() if columns.keys() >= set(names)}
    gone = {names[0] for alias, names in known.items() if single[alias]}
    found = {name: column for name, column in columns.items() if name not in gone}
    labels = {name: each for name, each in matrices.items() if name not in gone}
    for alias, names in known.items():
        if not single[alias]:
            found[alias] = _side_by_side(alias, [columns[name] for name in names])
            labels[alias] = tuple(names)
            continue
        old = columns[names[0]]
        axes = (old.axes[0], alias) if names[0] in matrices else old.axes
        found[alias] = Column(name=alias, values=old.values, axes=axes, order=old.order)
        labels.pop(alias, None)
        if names[0] in matrices:
            labels[alias] = matrices[names[0]]
    return found, labels


def _side_by_side(alias: str, parts: Sequence[Column]) -> Column:
    if any(not part.numeric or part.axes != parts[0].axes for part in parts):
        raise DataError(f"`columns`: the columns of `{alias}` must be numbers of one table.")
    values = np.stack([part.values for part in parts], axis=1)
    return Column(name=alias, values=values, axes=(parts[0].axes[0], alias))
