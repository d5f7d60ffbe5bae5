"""All studies by name, and which of them fit the columns of a table."""

from __future__ import annotations

import inspect
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from millwright.studies.correlation_study import correlation
from millwright.studies.group_study import one_group, paired, two_groups
from millwright.studies.proportion_study import proportions
from millwright.studies.regression_study import regression
from millwright.studies.study import Study

__all__ = ["STUDIES", "Offer", "arguments_of", "offers"]

STUDIES: dict[str, Callable[..., Study]] = {
    "one_group": one_group,
    "two_groups": two_groups,
    "paired": paired,
    "proportions": proportions,
    "correlation": correlation,
    "regression": regression,
}

_MOST_LABELS = 10
_YES_NO = ({"yes", "no"}, {"true", "false"}, {"0", "1"})
_MOST = 4


@dataclass(frozen=True)
class Offer:
    """A study that fits a table, with the columns it would take."""

    name: str
    columns: dict[str, str]


def offers(frame: pd.DataFrame) -> list[Offer]:
    """Return the studies that the columns of a table could be put to, at most four."""
    numbers = [c for c in map(str, frame.columns) if _measured(frame[c])]
    groups = [c for c in map(str, frame.columns) if _labels(frame[c])]
    answers = [c for c in map(str, frame.columns) if _yes_no(frame[c])]
    found: list[Offer] = []
    counts = _successes(frame, numbers)
    if counts and groups:
        won, tried = counts
        found.append(Offer("proportions", {"outcome": won, "trials": tried, "group": groups[0]}))
        numbers = [c for c in numbers if c not in counts]
    elif answers and groups and groups[0] != answers[0]:
        found.append(Offer("proportions", {"outcome": answers[0], "group": groups[0]}))
    if numbers and groups:
        found.append(Offer("two_groups", {"outcome": numbers[-1], "group": groups[0]}))
    if len(numbers) > 1 and all(name.isidentifier() for name in (numbers[0], numbers[-1])):
        terms = [n for n in (*numbers[:-1], *groups[:1]) if n.isidentifier()]
        formula = f"{numbers[-1]} ~ {' + '.join(terms[:3])}"
        found.append(Offer("regression", {"formula": formula}))
    if len(numbers) > 1:
        found.append(Offer("correlation", {"first": numbers[0], "second": numbers[-1]}))
    if numbers and not groups:
        found.append(Offer("one_group", {"outcome": numbers[-1]}))
    return found[:_MOST]


def _measured(column: pd.Series) -> bool:
    """Whether a column holds numbers that vary, and does more than number the rows."""
    if not pd.api.types.is_numeric_dtype(column) or pd.api.types.is_bool_dtype(column):
        return False
    values = column.dropna().to_numpy(float)
    if len(values) < 3 or len(np.unique(values)) < 3 or not np.isfinite(values).all():
        return False
    return not (np.diff(values) == 1).all()


def _labels(column: pd.Series) -> bool:
    if pd.api.types.is_numeric_dtype(column):
        return False
    count = column.nunique()
    return 2 <= count <= _MOST_LABELS and count < len(column)


def _yes_no(column: pd.Series) -> bool:
    texts = {str(value).lower().removesuffix(".0") for value in column.dropna()}
    return len(texts) == 2 and texts in _YES_NO


def _successes(frame: pd.DataFrame, numbers: list[str]) -> tuple[str, str] | None:
    """Return two columns of counts, the first of which never exceeds the second."""
    whole = [
        c
        for c in numbers
        if (values := frame[c].dropna().to_numpy(float)).min() >= 0
        and (values == np.round(values)).all()
    ]
    for tried in whole:
        for won in whole:
            if won != tried and (frame[won] <= frame[tried]).all():
                return won, tried
    return None


def arguments_of(name: str) -> dict[str, Any]:
    """Return the options that a study takes, with their usual values."""
    parameters = inspect.signature(STUDIES[name]).parameters
    return {key: one.default for key, one in parameters.items() if key != "data"}
