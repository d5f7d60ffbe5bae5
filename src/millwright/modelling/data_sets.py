"""Many data sets for one model: a table cut by a column, a list, or a mapping."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from millwright.errors import ArgumentError, DataError, nearest

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["data_sets", "one_table"]


def data_sets(data: Any, by: str | None) -> dict[Any, Any]:
    """Return data sets by name.

    Parameters
    ----------
    data
        One table (DataFrame or mapping of columns) if `by` names a column of it, which cuts it
        into one data set for each of its values; otherwise a list of data sets, which are
        numbered from 1, or a mapping from names.
    by
        A column.

    Raises
    ------
    ArgumentError
        For what are no data sets.
    DataError
        If the column is missing or has gaps.
    """
    if by is not None:
        return _cut(data, by)
    if isinstance(data, Mapping) and all(_is_data(one) for one in data.values()):
        found = dict(data)
    elif isinstance(data, Sequence) and not isinstance(data, str):
        found = dict(enumerate(data, start=1))
    else:
        raise ArgumentError(
            "Give one table with `by`, the column that cuts it into data sets, or a list of data "
            f"sets, or a mapping of names to data sets; not {type(data).__name__}"
            + (" of columns." if isinstance(data, Mapping) else ".")
        )
    if not found:
        raise ArgumentError("There are no data sets to fit.")
    for name, one in found.items():
        if not _is_data(one):
            raise ArgumentError(
                f"The data set {name!r} must be a DataFrame or a mapping of names to arrays, not "
                f"{type(one).__name__}."
            )
    if len({str(name) for name in found}) < len(found):
        raise ArgumentError("Two data sets have the same name.")
    return found


def _is_data(value: Any) -> bool:
    return isinstance(value, Mapping) or (hasattr(value, "columns") and hasattr(value, "iloc"))


def _cut(data: Any, by: str) -> dict[Any, Any]:
    """Cut a table by the values of a column, in the order in which they come first."""
    import pandas as pd

    if not isinstance(by, str):
        raise ArgumentError(f"`by` must be the name of a column, not {by!r}.")
    if not _is_data(data):
        raise ArgumentError(
            "With `by` the data must be one table (a DataFrame or a mapping of names to columns), "
            f"not {type(data).__name__}."
        )
    if isinstance(data, Mapping):
        if any(_is_data(value) for value in data.values()):
            raise ArgumentError(
                "`by` cuts one table; of several tables give a list or mapping of data sets."
            )
        flat = {name: values for name, values in data.items() if np.ndim(values) == 1}
        single = {name: values for name, values in data.items() if np.ndim(values) != 1}
        frame = one_table(flat, "`by` cuts the rows of a table")
    else:
        frame, single = one_table(data, "`by` cuts the rows of a table"), {}
    if by not in frame.columns:
        known = list(map(str, frame.columns))
        raise DataError(
            f"The data have no column `{by}` to cut them by.{nearest(by, known)} "
            f"Columns: {', '.join(f'`{name}`' for name in known[:12])}."
        )
    gaps = int(pd.isna(frame[by]).sum())
    if gaps:
        raise DataError(
            f"The column `{by}` has no value in {gaps} row{'s' if gaps > 1 else ''}, so it is not "
            "known to which data set they belong: fill them in or drop these rows."
        )
    parts = frame.groupby(by, sort=False, observed=True)
    return {_plain(name): _with(part, single) for name, part in parts}


def one_table(data: Any, why: str) -> pd.DataFrame:
    """Return a DataFrame, or a mapping of names to columns of one length, as a DataFrame.

    Raises
    ------
    ArgumentError
        For anything else; it begins with `why`.
    DataError
        If columns differ in length, or there are no rows.
    """
    import pandas as pd

    if isinstance(data, pd.DataFrame):
        frame = data
    elif isinstance(data, Mapping) and data and all(np.ndim(v) == 1 for v in data.values()):
        lengths = {name: len(values) for name, values in data.items()}
        if len(set(lengths.values())) > 1:
            raise DataError(
                "The columns of a table must be equally long: "
                + ", ".join(f"`{name}` has {count}" for name, count in list(lengths.items())[:8])
                + "."
            )
        frame = pd.DataFrame(dict(data))
    else:
        raise ArgumentError(
            f"{why}: give one table, a DataFrame or a mapping of names to columns."
        )
    if not len(frame):
        raise DataError("The table has no rows.")
    return frame.reset_index(drop=True)


def _with(part: Any, single: Mapping[Any, Any]) -> Any:
    """Return a part of the table, with what is no column of rows beside it."""
    part = part.reset_index(drop=True)
    for name in part.columns:
        if hasattr(part[name], "cat"):
            # Categories that do not occur here are of other data sets.
            part[name] = part[name].cat.remove_unused_categories()
    if not single:
        return part
    return {**{name: part[name] for name in part.columns}, **single}


def _plain(name: Any) -> Any:
    return name.item() if isinstance(name, np.generic) else name
