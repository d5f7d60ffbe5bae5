"""The trials of a meta-analysis: estimates with standard errors, checked."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from millwright.checks import is_among
from millwright.errors import ArgumentError, DataError
from millwright.language.parse import normal_name
from millwright.studies.design import Design, ReadFormula, design_of, read_formula
from millwright.studies.meta_linear import LinearTrials
from millwright.studies.meta_posterior import Trials
from millwright.studies.meta_priors import normal_values
from millwright.studies.reading import complete_rows, find_column, labels_in, numbers_in, table_of
from millwright.wording import setting

__all__ = ["DEFINITIONS", "SCALES", "TrialData", "covariate_names", "made_table", "trial_table"]

DEFINITIONS = ("effect", "spread", "slope", "own", "shared", "covariate")
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
    per
        The column that says which trial an estimate is of, where trials have several.
    correlation
        Of the errors of estimates of one trial.
    design
        Columns of covariates; None without any.
    slope
        Location and scale of the normal prior of their slopes.
    """

    frame: pd.DataFrame = field(repr=False)
    shown: str
    estimate: str
    error: str
    label: str | None
    order: str | None
    size: str | None
    per: str | None = None
    correlation: float = 0.0
    design: Design | None = field(default=None, repr=False)
    slope: tuple[float, float] = (0.0, 1.0)
    remarks: tuple[str, ...] = ()

    @cached_property
    def trials(self) -> Trials:
        """Estimates and standard errors, and what they lean on."""
        estimates = self.frame[self.estimate].to_numpy(float)
        errors = self.frame[self.error].to_numpy(float)
        if self.per is None and self.design is None:
            return Trials(estimates, errors)
        columns = np.zeros((len(estimates), 0))
        return LinearTrials(
            estimates=estimates,
            errors=errors,
            columns=columns if self.design is None else self.design.standardised,
            slope=self.slope,
            trial=None if self.per is None else pd.factorize(self.frame[self.per])[0],
            correlation=self.correlation,
        )

    @cached_property
    def labels(self) -> tuple[str, ...]:
        """Names of the estimates: those of their trials, or numbers where they have none."""
        if self.label is not None:
            return tuple(self.frame[self.label])
        if self.per is None:
            return tuple(f"trial {k}" for k in range(1, len(self.frame) + 1))
        number = self.frame.groupby(self.per, sort=False).cumcount() + 1
        return tuple(f"{one} ({k})" for one, k in zip(self.frame[self.per], number, strict=True))

    @cached_property
    def units(self) -> dict[str, np.ndarray]:
        """Rows of each trial, by its name, in the order of the table."""
        if self.per is None:
            return {label: np.array([at]) for at, label in enumerate(self.labels)}
        names = self.frame[self.per].to_numpy()
        return {str(one): np.flatnonzero(names == one) for one in dict.fromkeys(names)}

    @property
    def ordered(self) -> list[str]:
        """Names of the trials in the order in which they came in."""
        if self.order is None:
            return list(self.units)
        when = self.frame[self.order].to_numpy()
        return sorted(self.units, key=lambda name: min(when[self.units[name]]))


def trial_table(
    data: Any,
    given: Mapping[str, Any],
    missing: str,
) -> TrialData:
    """Read the trials of a table.

    Parameters
    ----------
    given
        Settings of the study: columns, scale, covariates.

    Raises
    ------
    ArgumentError
        For columns that are not there, or a scale that is none.
    DataError
        For standard errors that are not above 0, estimates of a bounded scale, equal labels.
    """
    scale = given["scale"]
    if scale is not None and not is_among(scale, SCALES):
        raise ArgumentError(f"`scale` must be one of {', '.join(SCALES)}, not {scale!r}.")
    frame = table_of(data)
    estimate = _column(frame, given["estimate"], "estimate", _ESTIMATES)
    error = _column(frame, given["standard_error"], "standard_error", _ERRORS)
    if estimate == error:
        raise ArgumentError(f"`{estimate}` cannot be the estimate and its standard error.")
    table = pd.DataFrame(
        {
            estimate: numbers_in(frame, estimate, "estimate"),
            error: numbers_in(frame, error, "standard_error"),
        }
    )
    label, per = given["label"], given["per"]
    if label is None and per is None:
        label = _usual(frame, _LABELS, (estimate, error))
    for column, what in ((label, "label"), (per, "per")):
        if column is not None:
            table[find_column(frame, column, what)] = labels_in(frame, column, what)
    formula = None
    if given["covariates"] is not None:
        formula = read_formula(given["covariates"], one_sided=True)
    others = [(given["order"], "order"), (given["size"], "size")]
    others += [(name, "covariates") for name in (formula.columns if formula else ())]
    for column, what in others:
        if column is not None and not is_among(column, table):
            name = find_column(frame, column, what)
            table[name] = frame[name]
    table, remarks = complete_rows(table, missing)
    found = {"estimate": estimate, "standard_error": error, "label": label, "per": per}
    return made_table(table, {**given, **found}, formula, remarks)


def made_table(
    table: pd.DataFrame,
    given: Mapping[str, Any],
    formula: ReadFormula | None,
    remarks: tuple[str, ...],
) -> TrialData:
    """Return trials from complete rows, checked."""
    estimate = given["estimate"]
    if formula is not None and {estimate, given["standard_error"]} & set(formula.columns):
        raise ArgumentError("A covariate is a column beside the estimate and its standard error.")
    for name in formula.columns if formula is not None else ():
        if normal_name(name) in DEFINITIONS:
            raise ArgumentError(f"The models have an unknown `{name}`: rename the covariate.")
    columns = {
        name: None if given[name] is None else _in_models(str(given[name]))
        for name in ("label", "order", "size", "per")
    }
    design = None if formula is None else covariate_design(table, formula)
    made = TrialData(
        frame=_with_covariates(table.rename(columns=_in_models), design),
        shown=given.get("shown") or estimate,
        estimate=_in_models(estimate),
        error=_in_models(given["standard_error"]),
        **columns,
        correlation=given["correlation"] or 0.0,
        design=design,
        slope=normal_values(given["slope"]) if design is not None else (0.0, 1.0),
        remarks=remarks,
    )
    return check_trials(made, given["scale"])


def _with_covariates(frame: pd.DataFrame, design: Design | None) -> pd.DataFrame:
    """Return a table with the columns of covariates."""
    if design is None:
        return frame
    columns = dict(zip(covariate_names(design), design.values.T, strict=True))
    return frame.drop(columns=columns, errors="ignore").assign(**columns)


def covariate_names(design: Design) -> list[str]:
    """Return what the models' data call the columns of covariates."""
    plain = set(design.formula.columns) - set(design.levels)
    return [name if name in plain else f"{name} of covariates" for name in design.names]


def covariate_design(table: pd.DataFrame, formula: ReadFormula) -> Design:
    """Return the columns that a formula of covariates makes.

    Raises
    ------
    ArgumentError
        For a formula without intercept, or without a column.
    DataError
        For columns that do not vary.
    """
    design = design_of(table, formula)
    if not design.intercept:
        raise ArgumentError(
            f"{formula.text!r} leaves the intercept out; the effect is it: write the covariates "
            "alone."
        )
    if not design.names:
        raise ArgumentError(f"{formula.text!r} names no covariate.")
    return design


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
            f"`{sorted(twice)[0]}` names {labels.count(sorted(twice)[0])} rows: several "
            f"estimates of one trial are not independent. Say {setting('per', data.label)} and "
            f"{setting('correlation')}, that of their errors, in place of the label; or give "
            "each row its own label if they are separate trials."
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
