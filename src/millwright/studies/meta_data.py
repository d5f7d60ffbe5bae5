"""The trials of a meta-analysis: estimates with standard errors, checked."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd

from millwright.errors import ArgumentError, DataError
from millwright.language.parse import normal_name
from millwright.studies.meta_posterior import Trials
from millwright.studies.reading import complete_rows, find_column, labels_in, numbers_in, table_of
from millwright.wording import setting

__all__ = ["DEFINITIONS", "SCALES", "TrialData", "trial_table"]

DEFINITIONS = ("effect", "spread")
SCALES = {
    "difference": None,
    "standardised difference": None,
    "log odds ratio": ("odds ratio", np.exp),
    "log risk ratio": ("risk ratio", np.exp),
    "fisher z": ("correlation", np.tanh),
    "logit": ("share", lambda x: 1 / (1 + np.exp(-x))),
}
"""Scales of estimates: what they are shown as, and how they come there."""

_ESTIMATES = ("estimate", "effect", "yi", "difference")
_ERRORS = ("standard_error", "standard error", "se", "error")
_LABELS = ("label", "trial", "study", "mill", "name")
_CLEAR = 0.35


@dataclass(frozen=True, kw_only=True)
class TrialData:
    """Trials in their order.

    Attributes
    ----------
    frame
        Columns of estimate, standard error, label, and of order and size where there are any.
    shown
        What the estimates are called to readers: the user's own name of their column.
    order
        The column that says in which order trials came in; None for that of the rows.
    """

    frame: pd.DataFrame = field(repr=False)
    shown: str
    estimate: str
    error: str
    label: str | None
    order: str | None
    size: str | None
    remarks: tuple[str, ...] = ()

    @property
    def trials(self) -> Trials:
        """Estimates and standard errors."""
        return Trials(
            self.frame[self.estimate].to_numpy(float), self.frame[self.error].to_numpy(float)
        )

    @property
    def labels(self) -> tuple[str, ...]:
        """Names of the trials; numbers where they have none."""
        if self.label is None:
            return tuple(f"trial {k}" for k in range(1, len(self.frame) + 1))
        return tuple(self.frame[self.label])


def trial_table(
    data: Any,
    estimate: Any,
    standard_error: Any,
    label: Any,
    order: Any,
    size: Any,
    scale: str | None,
    missing: str,
) -> TrialData:
    """Read the trials of a table.

    Raises
    ------
    ArgumentError
        For columns that are not there, or a scale that is none.
    DataError
        For standard errors that are not above 0, estimates of a bounded scale, equal labels.
    """
    if scale is not None and scale not in SCALES:
        raise ArgumentError(f"`scale` must be one of {', '.join(SCALES)}, not {scale!r}.")
    frame = table_of(data)
    names = {
        "estimate": _column(frame, estimate, "estimate", _ESTIMATES),
        "error": _column(frame, standard_error, "standard_error", _ERRORS),
    }
    if names["estimate"] == names["error"]:
        raise ArgumentError(
            f"`{names['estimate']}` cannot be the estimate and its standard error."
        )
    table = pd.DataFrame(
        {
            names["estimate"]: numbers_in(frame, names["estimate"], "estimate"),
            names["error"]: numbers_in(frame, names["error"], "standard_error"),
        }
    )
    found = _usual(frame, _LABELS, names.values()) if label is None else label
    if found is not None:
        table[find_column(frame, found, "label")] = labels_in(frame, found, "label")
    for column, what in ((order, "order"), (size, "size")):
        if column is not None:
            name = find_column(frame, column, what)
            table[name] = frame[name]
    table, remarks = complete_rows(table, missing)
    made = TrialData(
        frame=table.rename(columns=_in_models),
        shown=names["estimate"],
        estimate=_in_models(names["estimate"]),
        error=_in_models(names["error"]),
        label=None if found is None else _in_models(str(found)),
        order=None if order is None else _in_models(str(order)),
        size=None if size is None else _in_models(str(size)),
        remarks=remarks,
    )
    return check_trials(made, scale)


def _in_models(column: str) -> str:
    """Return what the models call a column: another name than those of their unknowns."""
    return f"{column}_column" if normal_name(column) in DEFINITIONS else column


def _column(frame: pd.DataFrame, name: Any, what: str, usual: tuple[str, ...]) -> str:
    """Return a column that is named, or has the usual name."""
    if name is None:
        name = _usual(frame, usual, ())
    return find_column(frame, name, what)


def _usual(frame: pd.DataFrame, usual: tuple[str, ...], taken: Any) -> str | None:
    free = [name for name in frame.columns if name not in set(taken)]
    return next((n for one in usual for n in free if n.lower() == one), None)


def check_trials(data: TrialData, scale: str | None) -> TrialData:
    """Refuse what cannot be put together; return the trials with remarks.

    Raises
    ------
    DataError
        As `trial_table`.
    """
    trials = data.trials
    wrong = np.flatnonzero(~(trials.errors > 0))
    if len(wrong):
        raise DataError(
            f"The standard error of `{data.labels[wrong[0]]}` is {trials.errors[wrong[0]]:g} in "
            f"`{data.error}`; standard errors are above 0."
        )
    labels = data.labels
    twice = {label for label in labels if labels.count(label) > 1}
    if twice:
        raise DataError(
            f"`{sorted(twice)[0]}` names {labels.count(sorted(twice)[0])} trials: several "
            "estimates of one trial are not independent. Give each trial one estimate, or each "
            "its own label if they are separate."
        )
    if scale is None:
        _refuse_bounded(data)
    _refuse_variances(data)
    if data.size is not None:
        sizes = numbers_in(data.frame, data.size, "size").to_numpy()
        if not (sizes > 0).all():
            raise DataError(f"Sizes in `{data.size}` are above 0.")
    return data


_RATIO = re.compile(r"(^|[^a-z])(or|rr|hr|odds|ratio|risk_ratio|odds_ratio)([^a-z]|$)", re.I)
_CORRELATION = re.compile(r"(^|[^a-z])(r|rho|cor|corr|correlation)([^a-z]|$)", re.I)
_SHARE = re.compile(
    r"(^|[^a-z])(share|proportion|prop|prevalence|percent|percentage)([^a-z]|$)", re.I
)
_LOG = re.compile(r"log|ln", re.I)


def _refuse_bounded(data: TrialData) -> None:
    """Refuse estimates that are no numbers of an unbounded scale, by name and range."""
    name, values = data.shown, data.trials.estimates
    known = f"If they are on an unbounded scale, say so: {setting('scale', 'difference')}."
    if _RATIO.search(name) and not _LOG.search(name) and (values > 0).all():
        raise DataError(
            f"`{name}` looks like ratios, which are not normal: give their logarithms, with the "
            f"standard errors of those (mw.effect_sizes.log_odds_ratio from counts). {known}"
        )
    if _CORRELATION.search(name) and (np.abs(values) < 1).all():
        raise DataError(
            f"`{name}` looks like correlations, which are not normal: "
            f"mw.effect_sizes.fisher_z turns them, with their sizes, into Fisher's z. {known}"
        )
    if _SHARE.search(name) and ((values >= 0) & (values <= 1)).all():
        raise DataError(
            f"`{name}` looks like shares, which are not normal: mw.effect_sizes.logit turns "
            f"counts into logits. {known}"
        )


def _refuse_variances(data: TrialData) -> None:
    """Refuse a column of variances, known by its name or by how it goes with the sizes."""
    words = f"`{data.error}` looks like variances: give standard errors, their square roots."
    if re.search(r"(^|[^a-z])(var|vi|variance|variances)([^a-z]|$)", data.error, re.I):
        raise DataError(words)
    if data.size is None or len(data.frame) < 4:
        return
    logs = np.log(numbers_in(data.frame, data.size, "size").to_numpy())
    errors = np.log(data.trials.errors)
    if np.std(logs) < _CLEAR:
        return
    # A standard error falls with the root of the size, a variance with the size itself.
    slope = np.polyfit(logs, errors, 1)[0]
    left = np.std(errors - np.polyval(np.polyfit(logs, errors, 1), logs))
    if -1.25 < slope < -0.8 and left < _CLEAR * np.std(errors):
        raise DataError(f"{words} They fall in proportion to `{data.size}`, as variances do.")
