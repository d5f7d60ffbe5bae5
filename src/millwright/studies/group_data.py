"""The data of a study of groups: one table of values and labels, whatever form they came in."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from millwright.errors import ArgumentError, DataError
from millwright.studies.reading import (
    complete_rows,
    find_column,
    label_order,
    labels_in,
    numbers_in,
    table_of,
)
from millwright.wording import setting

__all__ = ["GroupData", "group_table", "pair_table", "single_table"]

_MOST_GROUPS = 30


@dataclass(frozen=True, kw_only=True)
class GroupData:
    """Values in groups.

    Attributes
    ----------
    frame
        The rows in use, columns `outcome` and, where there are several groups, `group`.
    labels
        The groups in order.
    remarks
        What is to be known of the rows.
    """

    frame: pd.DataFrame
    outcome: str
    group: str | None
    labels: tuple[str, ...]
    remarks: tuple[str, ...] = ()

    def values(self, label: str | None = None) -> np.ndarray:
        """Return the values of a group, or of all."""
        column = self.frame[self.outcome]
        if self.group is not None and label is not None:
            column = column[self.frame[self.group] == label]
        return column.to_numpy(float)


def single_table(data: Any, outcome: Any, missing: str) -> GroupData:
    """Return one column of numbers."""
    frame = table_of(data)
    outcome = outcome if outcome is not None or len(frame.columns) > 1 else frame.columns[0]
    values = numbers_in(frame, outcome, "outcome")
    name = str(outcome)
    kept, remarks = complete_rows(pd.DataFrame({name: values}), missing)
    return GroupData(frame=kept, outcome=name, group=None, labels=(), remarks=remarks)


def pair_table(data: Any, first: Any, second: Any, missing: str) -> GroupData:
    """Return two columns of numbers and, as outcome, the second minus the first.

    Raises
    ------
    DataError
        Of columns that are the same.
    """
    frame = table_of(data)
    one, other = numbers_in(frame, first, "first"), numbers_in(frame, second, "second")
    if str(first) == str(second):
        raise ArgumentError(f"{setting('first')} and {setting('second')} are both `{first}`.")
    kept, remarks = complete_rows(pd.DataFrame({str(first): one, str(second): other}), missing)
    name = "change"
    while name in kept.columns:
        name += "_"
    kept = kept.assign(**{name: kept[str(second)] - kept[str(first)]})
    return GroupData(
        frame=kept, outcome=name, group=None, labels=(str(first), str(second)), remarks=remarks
    )


def group_table(
    data: Any,
    outcome: Any,
    group: Any,
    columns: Sequence[Any] | None,
    labels: Sequence[Any] | None,
    missing: str,
) -> GroupData:
    """Return values and labels: of a column for each, or of one column a group.

    Raises
    ------
    ArgumentError
        For columns that are not there, or both forms at once.
    DataError
        For fewer than two groups, or too many.
    """
    frame = table_of(data)
    if columns is not None:
        if group is not None or labels is not None:
            raise ArgumentError(
                f"Give either {setting('columns')}, one column a group, or {setting('outcome')} "
                f"and {setting('group')}."
            )
        found = _from_columns(frame, columns, "value" if outcome is None else str(outcome))
    else:
        found = _from_rows(frame, outcome, group, labels, missing)
    if len(found.labels) < 2:
        raise DataError(
            f"`{found.group}` has one label, `{found.labels[0]}`: there is nothing to compare. "
            "For one group: mw.studies.one_group."
        )
    if len(found.labels) > _MOST_GROUPS:
        raise DataError(
            f"`{found.group}` has {len(found.labels)} labels; groups are compared pairwise up to "
            f"{_MOST_GROUPS}. Choose some with {setting('labels')}, or write a model of effects "
            "`per` label."
        )
    return found


def _from_rows(
    frame: pd.DataFrame, outcome: Any, group: Any, chosen: Sequence[Any] | None, missing: str
) -> GroupData:
    values = numbers_in(frame, outcome, "outcome")
    name, of = str(outcome), find_column(frame, group, "group")
    if name == of:
        raise ArgumentError(f"{setting('outcome')} and {setting('group')} are both `{name}`.")
    texts = labels_in(frame, of, "group")
    labels = label_order(frame, of, texts, chosen)
    both = pd.DataFrame({name: values, of: texts})
    remarks: tuple[str, ...] = ()
    if chosen is not None:
        others = texts.notna() & ~texts.isin(labels)
        both = both[~others].reset_index(drop=True)
        if others.any():
            remarks = (f"{int(others.sum())} rows of other labels of `{of}` are not used.",)
    kept, gaps = complete_rows(both, missing)
    there = [label for label in labels if (kept[of] == label).any()]
    lost = [label for label in labels if label not in there]
    if lost:
        gaps = (*gaps, f"No row is left of {', '.join(lost)}.")
    return GroupData(
        frame=kept, outcome=name, group=of, labels=tuple(there), remarks=(*remarks, *gaps)
    )


def _from_columns(frame: pd.DataFrame, columns: Sequence[Any], outcome: str) -> GroupData:
    """Stack columns; their gaps are the ends of shorter ones, and are passed over."""
    if isinstance(columns, str) or len(columns) < 2:
        raise ArgumentError(f"{setting('columns')} names two columns or more, one a group.")
    names = [str(name) for name in columns]
    if len(set(names)) < len(names):
        raise ArgumentError(f"{setting('columns')} names a column twice: {', '.join(names)}.")
    parts, gaps = [], []
    group = "group" if outcome != "group" else "label"
    for name in names:
        values = numbers_in(frame, name, "columns")
        known = values.dropna()
        if not len(known):
            raise DataError(f"The column `{name}` has no values.")
        if len(known) < len(values):
            gaps.append(f"`{name}` {len(known)} of {len(values)}")
        parts.append(pd.DataFrame({outcome: known, group: name}))
    remarks = (f"Values in columns with gaps: {', '.join(gaps)}.",) if gaps else ()
    return GroupData(
        frame=pd.concat(parts, ignore_index=True),
        outcome=outcome,
        group=group,
        labels=tuple(names),
        remarks=remarks,
    )
