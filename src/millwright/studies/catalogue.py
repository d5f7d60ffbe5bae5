"""All studies by name, and which of them fit the columns of a table."""

from __future__ import annotations

import importlib
import inspect
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

if TYPE_CHECKING:
    import pandas as pd

    from millwright.studies.study import Study

__all__ = ["PLACES", "REBUILT_BY", "Offer", "arguments_of", "function_of", "offers"]

PLACES = {
    "one_group": "millwright.studies.group_study",
    "two_groups": "millwright.studies.group_study",
    "paired": "millwright.studies.group_study",
    "proportions": "millwright.studies.proportion_study",
    "correlation": "millwright.studies.correlation_study",
    "regression": "millwright.studies.regression_study",
    "meta_analysis": "millwright.studies.meta_study",
    "variable_selection": "millwright.studies.selection_study",
    "vector_autoregression": "millwright.studies.autoregression_study",
    "series": "millwright.studies.series_study",
    "expectations_model": "millwright.studies.expectations_study",
    "curve": "millwright.studies.curve_study",
    "smooth": "millwright.studies.smooth_study",
}
"""The module of each study, by its name."""

REBUILT_BY = {
    "groups": "millwright.studies.group_study",
    "proportions": "millwright.studies.proportion_study",
    "correlation": "millwright.studies.correlation_study",
    "regression": "millwright.studies.regression_study",
    "meta_analysis": "millwright.studies.meta_study",
    "variable_selection": "millwright.studies.selection_study",
    "sparse_selection": "millwright.studies.sparse_study",
    "vector_autoregression": "millwright.studies.autoregression_study",
    "series": "millwright.studies.series_study",
    "expectations_model": "millwright.studies.expectations_study",
    "curve": "millwright.studies.curve_study",
    "smooth": "millwright.studies.smooth_study",
}
"""The module whose `rebuild` makes a stored study again, by the name it is stored under."""

_MOST_LABELS = 10
_YES_NO = ({"yes", "no"}, {"true", "false"}, {"0", "1"})
_MOST = 4
_ERRORS = ("standard_error", "std_error", "se")
_ESTIMATES = ("estimate", "effect", "difference", "log_odds_ratio", "log_risk_ratio")


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
    error = next((c for c in numbers if c.lower().replace(" ", "_") in _ERRORS), None)
    if error is not None and len(numbers) > 1 and (frame[error].dropna() > 0).all():
        rest = [c for c in numbers if c != error]
        named = next((c for c in rest if c.lower() in _ESTIMATES), rest[-1])
        found.append(Offer("meta_analysis", {"estimate": named, "standard_error": error}))
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
    if column.dtype.kind not in "iuf":
        return False
    values = column.dropna().to_numpy(float)
    if len(values) < 3 or len(np.unique(values)) < 3 or not np.isfinite(values).all():
        return False
    return not (np.diff(values) == 1).all()


def _labels(column: pd.Series) -> bool:
    if column.dtype.kind in "biuf":
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


def function_of(name: str) -> Callable[..., Study]:
    """Return the function that makes a study of this name."""
    made: Callable[..., Study] = getattr(importlib.import_module(PLACES[name]), name)
    return made


def arguments_of(name: str) -> dict[str, Any]:
    """Return the options that a study takes, with their usual values."""
    parameters = inspect.signature(function_of(name)).parameters
    return {key: one.default for key, one in parameters.items() if key != "data"}
