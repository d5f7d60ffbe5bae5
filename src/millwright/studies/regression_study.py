"""The study of regression: one formula, or several side by side."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any, ClassVar

import pandas as pd

from millwright.checks import check_list, check_mapping, check_path, check_text
from millwright.diagnostics.finding import Finding
from millwright.errors import ArgumentError, DataError
from millwright.posterior.posterior import Posterior
from millwright.studies.design import read_formula
from millwright.studies.families import family_named, with_zeros
from millwright.studies.findings import Findings
from millwright.studies.folder import ending_of
from millwright.studies.reading import find_column, table_of
from millwright.studies.regression_checks import design_findings
from millwright.studies.regression_findings import RegressionFindings
from millwright.studies.regression_model import (
    RegressionParts,
    check_parts,
    regression_model,
    usual_priors,
)
from millwright.studies.regression_parts import check_named, parts_of, refuse_flat
from millwright.studies.regression_words import choice_words
from millwright.studies.study import Fitting, Study
from millwright.wording import setting

__all__ = ["RegressionStudy", "regression"]


@dataclass(frozen=True, eq=False, kw_only=True)
class RegressionStudy(Study):
    """An outcome explained by predictors.

    Attributes
    ----------
    parts
        What each regression is made of, by its name.
    """

    name: ClassVar[str] = "regression"

    parts: Mapping[str, RegressionParts] = field(repr=False)

    def data_of(self, name: str) -> pd.DataFrame:
        """Return the rows that a regression uses, with the columns that its formula makes."""
        return self.parts[name].frame

    def data_lines(self) -> tuple[str, ...]:
        """Return rows, and the columns that each formula makes."""
        lines = []
        for name, parts in self.parts.items():
            of = f"{name}: " if len(self.parts) > 1 else ""
            made = ", ".join(parts.design.names) or "no columns but the intercept"
            lines.append(f"{of}{len(parts.frame)} rows; columns {made}.")
            for column, labels in parts.design.levels.items():
                lines.append(f"{of}`{column}`: reference {labels[0]}, of {', '.join(labels)}.")
        return tuple(dict.fromkeys(lines))

    @cached_property
    def cautions(self) -> tuple[Finding, ...]:
        """What is to be known of the columns: aliased ones, separation, too many."""
        return design_findings(next(iter(self.parts.values())))

    def write(self, folder: str | Path, replace: bool = False) -> Path:
        """Write the sheet of every regression, and its own data beside it.

        Parameters
        ----------
        folder
            Made if it is not there.
        replace
            Whether to overwrite files that are there.

        Returns
        -------
        The folder: `NAME.toml` and `NAME.csv` (or `.parquet`) for each formula.

        Raises
        ------
        StorageError
            If a file exists, or cannot be written.
        """
        place = check_path("folder", folder)
        stems = {name: _file_name(name, at) for at, name in enumerate(self.models, 1)}
        frames = {name: self.data_of(name) for name in stems}
        return self._written(
            {name: place / f"{stem}.toml" for name, stem in stems.items()},
            {place / f"{stems[n]}{ending_of(frame)}": frame for n, frame in frames.items()},
            replace,
        )

    def _fit_one(self, name: str, how: Fitting) -> Posterior:
        gaps = self.data_of(name)[self.parts[name].outcome].isna().any()
        treated: dict[str, Any] = {"missing": "predict"} if gaps else {}
        settings = {**how.settings, **treated}
        if self.parts[name].shrinkage is not None:
            # Small steps: between a slope at 0 and one that escapes the posterior is narrow.
            settings.setdefault("target_acceptance", 0.95)
        return super()._fit_one(name, replace(how, settings=settings))

    def _found(self, posteriors: Mapping[str, Posterior], settings: Mapping[str, Any]) -> Findings:
        return RegressionFindings(study=self, posteriors=posteriors, fit_settings=settings)


def _file_name(formula: str, number: int) -> str:
    words = re.sub(r"[^\w]+", "-", formula).strip("-")
    return f"{number}-{words}"[:60]


def regression(
    formula: str | Sequence[str],
    data: Any,
    *,
    family: str = "normal",
    link: str | None = None,
    zeros: str | None = None,
    per: Mapping[str, str] | None = None,
    scale: str | None = None,
    trials: str | None = None,
    exposure: str | None = None,
    offset: str | None = None,
    weights: str | None = None,
    labels: Sequence[Any] | None = None,
    censored_low: float | None = None,
    censored_high: float | None = None,
    priors: Mapping[str, str] | None = None,
    flat: bool = False,
    expected_size: float | None = None,
    always: Sequence[str] = (),
    rope: tuple[float, float] | None = None,
    missing: str = "refuse",
) -> RegressionStudy:
    """Explain an outcome by predictors.

    Parameters
    ----------
    formula
        Such as `moisture ~ hours + loft + hours:loft` (Wilkinson and Rogers 1973); or several,
        which are compared.
    data
        DataFrame, or mapping of columns.
    family, link
        Distribution of the outcome, and the function of its mean that is linear: `normal`,
        `student_t`, `lognormal`; `gamma`, `poisson`, `negative_binomial` (log); `bernoulli`,
        `binomial`, `beta` (logit, probit, cloglog); `ordered` (logit, probit); `categorical`.
    zeros
        Of counts: `inflated` for more zeros than the family has, with a share of their own;
        `hurdle` for zeros apart from counts above zero.
    per
        Group effects: by a column of labels, or several as `mill:stone`, what varies between its
        labels, such as `{"stone": "1 + hours"}`; correlated within a set.
    scale
        A formula for the logarithm of the noise, such as `~ loft`.
    trials
        Of binomial outcomes the column of all trials.
    exposure
        Of counts the column of time, area or length that they come from.
    offset
        A column that is added to the predictor as it is.
    weights
        Of normal and student_t outcomes a column that divides the variance, such as a number of
        readings.
    labels
        Of ordered and categorical outcomes their labels in order.
    censored_low, censored_high
        Limits at which outcomes were recorded that lie beyond them.
    priors
        By class (`intercept`, which is for predictors at their means; `slope`, of standardised
        predictors; `noise`, ...), or by coefficient, on the scale of the data, such as
        `{"hours": "normal(-0.5, 0.2)"}`.
    flat
        Whether flat priors are meant: they are refused otherwise.
    expected_size
        How many terms of many are expected to matter: their slopes have a regularised horseshoe
        prior then (Piironen and Vehtari 2017), which pulls the others to 0.
    always
        Terms that keep the usual prior beside it; so do coefficients with a prior of their own.
    rope
        Region of practical equivalence of standardised coefficients.
    missing
        What to do with rows with gaps: `refuse` them or `drop` them; `predict` leaves rows without
        an outcome out of the fit (gaps in predictors are refused then).

    Returns
    -------
    The study; nothing is sampled yet.

    Raises
    ------
    ArgumentError
        For a formula or settings that make no sense.
    DataError
        For data that do not fit them.
    """
    texts = [formula] if isinstance(formula, str) else formula
    if not isinstance(texts, Sequence) or not all(isinstance(one, str) for one in texts):
        raise ArgumentError(f"A formula is a text such as 'moisture ~ hours', not {formula!r}.")
    texts = list(texts)
    if not texts or len(set(texts)) < len(texts):
        raise ArgumentError("Give one formula, or several that differ.")
    settings = {
        "formulas": texts,
        "family": family,
        "link": link,
        "zeros": zeros,
        "per": check_mapping("per", per),
        "scale": scale,
        "trials": trials,
        "exposure": exposure,
        "offset": offset,
        "weights": weights,
        "labels": None if labels is None else check_list("labels", labels),
        "censored": [censored_low, censored_high],
        "priors": check_mapping("priors", priors),
        "flat": flat,
        "expected_size": expected_size,
        "always": check_list("always", always),
        "rope": rope,
        "missing": missing,
    }
    frame = table_of(data)
    used = _used(frame, settings)
    kept, remarks = _without_gaps(frame[used], settings)
    return build(kept, settings, remarks)


def _used(frame: pd.DataFrame, settings: Mapping[str, Any]) -> list[str]:
    """Return the columns that any part uses, in the order of the table."""
    names: dict[str, None] = {}
    for text in settings["formulas"]:
        read = read_formula(text)
        for name in (read.outcome, *read.columns):
            names[find_column(frame, name, "formula")] = None
    if settings["scale"] is not None:
        for name in read_formula(settings["scale"], one_sided=True).columns:
            names[find_column(frame, name, "scale")] = None
    for group in settings["per"]:
        for name in check_text("per", group).split(":"):
            names[find_column(frame, name.strip(), "per")] = None
    for key in ("trials", "exposure", "offset", "weights"):
        if settings[key] is not None:
            names[find_column(frame, settings[key], key)] = None
    return [name for name in map(str, frame.columns) if name in names]


def _without_gaps(
    frame: pd.DataFrame, settings: Mapping[str, Any]
) -> tuple[pd.DataFrame, tuple[str, ...]]:
    missing = settings["missing"]
    if missing not in ("refuse", "drop", "predict"):
        raise ArgumentError(f"`missing` must be 'refuse', 'drop' or 'predict', not {missing!r}.")
    outcomes = {read_formula(text).outcome for text in settings["formulas"]}
    if len(outcomes) > 1:
        raise ArgumentError(
            f"Formulas that are compared have one outcome; these have {', '.join(outcomes)}."
        )
    looked = [n for n in frame.columns if missing != "predict" or n not in outcomes]
    gaps = frame[looked].isna()
    rows = gaps.any(axis=1)
    if not rows.any():
        return frame, ()
    where = ", ".join(f"`{n}` in {int(gaps[n].sum())}" for n in looked if gaps[n].any())
    if missing != "drop":
        raise DataError(
            f"Values are missing in {int(rows.sum())} of {len(frame)} rows ({where}). To leave "
            f"these rows out: {setting('missing', 'drop')}."
        )
    if rows.all():
        raise DataError(f"Every row lacks a value ({where}): nothing is left.")
    left = frame[~rows].reset_index(drop=True)
    return left, (
        f"{int(rows.sum())} of {len(frame)} rows left out for missing values ({where}).",
    )


def build(
    frame: pd.DataFrame, settings: Mapping[str, Any], remarks: tuple[str, ...]
) -> RegressionStudy:
    """Return the study of complete rows under settings, all checked."""
    refuse_flat(settings)
    family, link = family_named(settings["family"], settings["link"])
    if settings["zeros"] is not None:
        family = with_zeros(family, settings["zeros"])
    parts, models = {}, {}
    for text in settings["formulas"]:
        made = parts_of(frame, text, settings, family, link)
        check_parts(made)
        parts["regression" if len(settings["formulas"]) == 1 else text] = made
    check_named(settings, parts)
    for name, made in parts.items():
        known = usual_priors(made)
        given = {key: prior for key, prior in settings["priors"].items() if key in known}
        models[name] = regression_model(made, given, made.design.formula.text)
    first = next(iter(parts.values()))
    question = (
        f"How does `{first.outcome}` depend on its predictors ({settings['formulas'][0]})?"
        if len(parts) == 1
        else f"Which formula explains `{first.outcome}`, and how?"
    )
    return RegressionStudy(
        question=question,
        data=frame,
        models=models,
        choices=choice_words(first, settings),
        remarks=remarks,
        settings=settings,
        parts=parts,
    )


def rebuild(
    data: pd.DataFrame, settings: Mapping[str, Any], remarks: tuple[str, ...]
) -> RegressionStudy:
    """Return a stored study."""
    rope = settings["rope"]
    known = {"expected_size": None, "always": [], **settings}
    return build(data, {**known, "rope": None if rope is None else tuple(rope)}, remarks)
