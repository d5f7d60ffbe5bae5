"""The data of a study of proportions: successes among trials, yes or no, or pairs of these."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from millwright.errors import ArgumentError, DataError, nearest
from millwright.studies.reading import (
    complete_rows,
    find_column,
    label_order,
    labels_in,
    numbers_in,
    table_of,
)
from millwright.wording import setting

__all__ = ["PAIRS", "CountData", "count_table", "pattern_table"]

_MOST_GROUPS = 30
_YES = ("yes", "true", "1")
_NO = ("no", "false", "0")
PAIRS = ("no, no", "no, yes", "yes, no", "yes, yes")
"""What a pair of yes/no answers can be: the first, the second."""


@dataclass(frozen=True, kw_only=True)
class CountData:
    """Successes among trials, in groups.

    Attributes
    ----------
    frame
        The rows in use.
    outcome
        The column of successes; of pairs that of their pattern.
    trials, group
        The columns of trials and labels, or None: one trial a row, one group.
    labels
        The groups in order; of pairs the names of the two answers.
    yes
        What counts as a success, as text: `sank` = yes.
    """

    frame: pd.DataFrame
    outcome: str
    trials: str | None
    group: str | None
    labels: tuple[str, ...]
    yes: str
    remarks: tuple[str, ...] = ()

    def counts(self, label: str | None = None) -> tuple[np.ndarray, np.ndarray]:
        """Return successes and trials of the rows of a group, or of all."""
        rows = self.frame
        if self.group is not None and label is not None:
            rows = rows[rows[self.group] == label]
        won = rows[self.outcome].to_numpy(float)
        tried = np.ones(len(rows)) if self.trials is None else rows[self.trials].to_numpy(float)
        return won, tried

    @property
    def groups(self) -> tuple[str | None, ...]:
        """The labels, or a single None."""
        return self.labels if self.group is not None else (None,)


def count_table(
    data: Any,
    outcome: Any,
    trials: Any,
    group: Any,
    labels: Sequence[Any] | None,
    yes: Any,
    missing: str,
) -> CountData:
    """Return successes among trials, or yes/no answers as 0 and 1.

    Raises
    ------
    ArgumentError
        For columns that are not there.
    DataError
        For counts that are none, or answers of more than two kinds.
    """
    frame = table_of(data)
    name = find_column(frame, outcome, "outcome")
    columns = {name: frame[name]}
    if trials is not None:
        columns[name] = numbers_in(frame, outcome, "outcome")
        columns[str(trials)] = numbers_in(frame, trials, "trials")
    of = None
    chosen: list[str] = []
    if group is not None:
        of = find_column(frame, group, "group")
        texts = labels_in(frame, of, "group")
        chosen = label_order(frame, of, texts, labels)
        columns[of] = texts
    if len(columns) < 1 + (trials is not None) + (of is not None):
        raise ArgumentError(
            f"{setting('outcome')}, {setting('trials')} and {setting('group')} are different "
            "columns."
        )
    table = pd.DataFrame(columns)
    remarks: tuple[str, ...] = ()
    if of is not None and labels is not None:
        others = table[of].notna() & ~table[of].isin(chosen)
        table = table[~others].reset_index(drop=True)
        if others.any():
            remarks = (f"{int(others.sum())} rows of other labels of `{of}` are not used.",)
    kept, gaps = complete_rows(table, missing)
    word = "a success"
    if trials is None:
        kept, word = _yes_no(kept, name, yes)
    else:
        if yes is not None:
            raise ArgumentError(f"{setting('yes')} is for yes/no columns, without trials.")
        _check_counts(kept, name, str(trials))
    there = tuple(label for label in chosen if of is not None and (kept[of] == label).any())
    lost = [label for label in chosen if label not in there]
    if lost:
        gaps = (*gaps, f"No row is left of {', '.join(lost)}.")
    if len(there) > _MOST_GROUPS:
        raise DataError(
            f"`{of}` has {len(there)} labels; shares are compared pairwise up to {_MOST_GROUPS}. "
            f"Choose some with {setting('labels')}."
        )
    return CountData(
        frame=kept,
        outcome=name,
        trials=None if trials is None else str(trials),
        group=of,
        labels=there,
        yes=word,
        remarks=(*remarks, *gaps),
    )


def _check_counts(frame: pd.DataFrame, outcome: str, trials: str) -> None:
    won, tried = frame[outcome].to_numpy(float), frame[trials].to_numpy(float)
    for name, values in ((outcome, won), (trials, tried)):
        bad = (values < 0) | (values != np.round(values))
        if bad.any():
            row = int(np.flatnonzero(bad)[0])
            raise DataError(
                f"`{name}` is to be counts, whole numbers from 0; row {row + 1} is "
                f"{values[row]:g}."
            )
    more = won > tried
    if more.any():
        row = int(np.flatnonzero(more)[0])
        raise DataError(
            f"Row {row + 1} has {won[row]:g} in `{outcome}` and only {tried[row]:g} in "
            f"`{trials}`: {setting('trials')} is the number of all, successes and failures."
        )
    if not tried.sum():
        raise DataError(f"`{trials}` is 0 in every row: there is nothing to estimate from.")


def _yes_no(frame: pd.DataFrame, name: str, yes: Any) -> tuple[pd.DataFrame, str]:
    """Return a column of two kinds of answers as 0 and 1, and which one is 1."""
    numbers, word = answers(frame, name, yes)
    return frame.assign(**{name: numbers}), word


def answers(
    frame: pd.DataFrame, name: str, yes: Any, beside: str | None = None
) -> tuple[np.ndarray, str]:
    """Return answers as 0 and 1, and what counts as 1.

    Parameters
    ----------
    beside
        Another column with the same two kinds of answers.

    Raises
    ------
    ArgumentError
        If that must be said, or is not in the column.
    DataError
        For more than two kinds of answers.
    """
    texts = labels_in(frame, name, "outcome")
    others = set() if beside is None else set(labels_in(frame, beside, "outcome"))
    kinds = sorted({*texts, *others})
    if len(kinds) > 2:
        shown = ", ".join(kinds[:6])
        raise DataError(
            f"`{name}` has {len(kinds)} kinds of values ({shown}...); yes/no has two. For counts "
            f"of successes give {setting('trials')} too."
        )
    if yes is None:
        known = [one for one in kinds if one.lower() in _YES]
        rest = [one for one in kinds if one.lower() not in _YES and one.lower() not in _NO]
        if rest:
            raise ArgumentError(
                f"Say which value of `{name}` counts as a success: {setting('yes', kinds[-1])}. "
                f"Values: {', '.join(kinds)}."
            )
        word = known[0] if known else _YES[0]
    else:
        word = str(int(yes)) if isinstance(yes, float) and yes.is_integer() else str(yes)
        if word not in kinds:
            raise ArgumentError(
                f"No row of `{name}` is `{word}`.{nearest(word, kinds)} Values: "
                f"{', '.join(kinds)}."
            )
    return (texts == word).to_numpy(float), f"`{name}` = {word}"


def pattern_table(data: Any, first: Any, second: Any, yes: Any, missing: str) -> CountData:
    """Return pairs of yes/no answers as one column of patterns."""
    frame = table_of(data)
    one, other = find_column(frame, first, "first"), find_column(frame, second, "second")
    if one == other:
        raise ArgumentError(f"{setting('first')} and {setting('second')} are both `{one}`.")
    kept, remarks = complete_rows(frame[[one, other]], missing)
    (a, word), (b, _) = answers(kept, one, yes, other), answers(kept, other, yes, one)
    pattern = [PAIRS[int(2 * x + y)] for x, y in zip(a, b, strict=True)]
    column = "pattern"
    while column in kept.columns:
        column += "_"
    return CountData(
        frame=pd.DataFrame({column: pattern}),
        outcome=column,
        trials=None,
        group=None,
        labels=(one, other),
        yes=word,
        remarks=remarks,
    )
