"""The study of regression: one formula, or several side by side."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
import pandas as pd

from millwright.diagnostics.finding import Finding
from millwright.draws.decision import region_ends
from millwright.errors import ArgumentError, DataError, nearest
from millwright.posterior.posterior import Posterior
from millwright.studies.design import Design, design_of, read_formula
from millwright.studies.families import FamilyOfOutcomes, family_named, with_zeros
from millwright.studies.findings import Findings
from millwright.studies.folder import ending_of
from millwright.studies.reading import find_column, joined_labels, labels_in, numbers_in, table_of
from millwright.studies.regression_checks import design_findings
from millwright.studies.regression_findings import RegressionFindings
from millwright.studies.regression_model import (
    GroupTerms,
    RegressionParts,
    check_parts,
    column_name,
    regression_model,
    usual_priors,
)
from millwright.studies.shrinkage import Shrinkage, check_size, noise_on_predictor
from millwright.studies.study import Fitting, Study
from millwright.wording import setting

__all__ = ["RegressionStudy", "regression"]

_LABELLED = ("ordered", "categorical")


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
        place = Path(folder)
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
        "per": dict(per or {}),
        "scale": scale,
        "trials": trials,
        "exposure": exposure,
        "offset": offset,
        "weights": weights,
        "labels": None if labels is None else list(labels),
        "censored": [censored_low, censored_high],
        "priors": dict(priors or {}),
        "flat": flat,
        "expected_size": expected_size,
        "always": [always] if isinstance(always, str) else list(always),
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
        for name in group.split(":"):
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
    _refuse_flat(settings)
    family, link = family_named(settings["family"], settings["link"])
    if settings["zeros"] is not None:
        family = with_zeros(family, settings["zeros"])
    parts, models = {}, {}
    for text in settings["formulas"]:
        made = _parts(frame, text, settings, family, link)
        check_parts(made)
        parts["regression" if len(settings["formulas"]) == 1 else text] = made
    _check_named(settings, parts)
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
        choices=_choices(first, settings),
        remarks=remarks,
        settings=settings,
        parts=parts,
    )


def _refuse_flat(settings: Mapping[str, Any]) -> None:
    for name, text in settings["priors"].items():
        if "flat" in str(text) and not settings["flat"]:
            raise ArgumentError(
                f"The prior of `{name}` is flat: then nothing can be simulated before the data, "
                "no evidence exists, and a separated or aliased coefficient has no answer. State "
                f"a wide one, or, if it is meant, {setting('flat', True)}."
            )


def _parts(
    frame: pd.DataFrame,
    text: str,
    settings: Mapping[str, Any],
    family: FamilyOfOutcomes,
    link: str,
) -> RegressionParts:
    """Return what a regression is made of."""
    formula = read_formula(text)
    design = design_of(frame, formula)
    if family.name in _LABELLED and not design.intercept:
        raise ArgumentError(
            f"Family {family.name} has cut points or bases in place of an intercept: write the "
            "formula with it."
        )
    outcome, labels, values = _outcome(frame, formula.outcome, settings, family)
    columns: dict[str, Any] = {formula.outcome: outcome}
    for at, name in enumerate(design.names):
        columns[column_name(name)] = design.values[:, at]
    if formula.outcome in design.names:
        raise ArgumentError(f"`{formula.outcome}` stands on both sides of {text!r}.")
    scale_design = None
    if settings["scale"] is not None:
        scale_design = design_of(frame, read_formula(settings["scale"], one_sided=True))
        for at, name in enumerate(scale_design.names):
            columns[f"scale of {name}"] = scale_design.values[:, at]
    groups = tuple(
        _group(frame, group, str(terms), design, columns)
        for group, terms in settings["per"].items()
    )
    for key in ("trials", "exposure", "offset", "weights"):
        if settings[key] is not None:
            columns[str(settings[key])] = numbers_in(frame, settings[key], key).to_numpy(float)
    if family.name in _LABELLED or family.name == "binomial":
        unit, centre = 1.0, 0.0
    else:
        unit, centre = family.unit_and_centre(values, link, formula.outcome)
    own = {n: p for n, p in settings["priors"].items() if n in design.names}
    if family.name == "categorical" and own:
        raise ArgumentError("Of a categorical outcome all slopes share the prior `slope`.")
    censored = settings["censored"]
    made = RegressionParts(
        frame=pd.DataFrame(columns),
        outcome=formula.outcome,
        labels=labels,
        family=family,
        link=link,
        design=design,
        scale_design=scale_design,
        groups=groups,
        offset=settings["offset"],
        exposure=settings["exposure"],
        trials=settings["trials"],
        weights=settings["weights"],
        censored=(censored[0], censored[1]),
        own=own,
        unit=unit,
        centre=centre,
    )
    if settings["expected_size"] is None:
        if settings["always"]:
            raise ArgumentError(f"{setting('always')} goes with {setting('expected_size')}.")
        return made
    return replace(made, shrinkage=_shrinkage(made, values, settings))


def _shrinkage(
    parts: RegressionParts, values: np.ndarray, settings: Mapping[str, Any]
) -> Shrinkage:
    """Return how slopes are pulled to 0.

    Raises
    ------
    ArgumentError
        For a family, a formula, terms or a number that do not go with it.
    """
    design, always = parts.design, settings["always"]
    if parts.family.name == "categorical" or not design.intercept:
        raise ArgumentError(
            f"{setting('expected_size')} is for formulas with an intercept, and not for "
            "categorical outcomes."
        )
    named = {term.replace("`", ""): columns for term, columns in design.terms.items()}
    for term in always:
        if term not in named:
            raise ArgumentError(
                f"{setting('always')} names `{term}`, which is no term of the formula."
                f"{nearest(str(term), named)} Terms: {', '.join(named)}."
            )
    pulled = {
        term: [one for one in columns if one not in parts.own]
        for term, columns in named.items()
        if term not in always
    }
    pulled = {term: columns for term, columns in pulled.items() if columns}
    if not pulled:
        raise ArgumentError("No slope is left to be pulled to 0.")
    expected = check_size(settings["expected_size"], len(pulled))
    known, rows = values[np.isfinite(values)], float(len(parts.frame))
    if parts.family.name == "binomial":
        trials = parts.frame[parts.trials].to_numpy(float)
        known, rows = known / trials[np.isfinite(values)], float(trials.sum())
    noise = noise_on_predictor(parts.family, parts.link, known, parts.unit)
    return Shrinkage(
        columns=tuple(name for columns in pulled.values() for name in columns),
        terms=len(pulled),
        expected=expected,
        overall=expected / (len(pulled) - expected) * noise / np.sqrt(rows),
        widest=2 * parts.unit,
    )


def _check_named(settings: Mapping[str, Any], parts: Mapping[str, RegressionParts]) -> None:
    """Refuse priors of what no formula has, and a region that is none."""
    if settings["rope"] is not None:
        region_ends(settings["rope"])
    classes = dict.fromkeys(name for one in parts.values() for name in usual_priors(one))
    names = dict.fromkeys(name for one in parts.values() for name in one.design.names)
    for name in settings["priors"]:
        if name not in classes and name not in names:
            known = [*classes, *names]
            raise ArgumentError(
                f"`priors` names `{name}`, which the regression does not have."
                f"{nearest(name, known)} Classes: {', '.join(classes)}; or a coefficient: "
                f"{', '.join(names)}."
            )


def _outcome(
    frame: pd.DataFrame, name: str, settings: Mapping[str, Any], family: FamilyOfOutcomes
) -> tuple[Any, tuple[str, ...], np.ndarray]:
    """Return the outcome column, its labels, and its values as numbers."""
    if family.name in _LABELLED:
        texts = labels_in(frame, name, "outcome")
        given = settings["labels"]
        column = frame[name]
        if given is not None:
            labels = tuple(map(str, given))
        elif isinstance(column.dtype, pd.CategoricalDtype):
            labels = tuple(map(str, column.cat.categories))
        elif pd.api.types.is_numeric_dtype(column) or family.name == "categorical":
            labels = tuple(sorted(set(texts.dropna()), key=_by_number))
        else:
            raise ArgumentError(
                f"Say the order of the labels of `{name}`, lowest first: {setting('labels')}. "
                f"Labels: {', '.join(sorted(set(texts.dropna())))}."
            )
        odd = sorted(set(texts.dropna()) - set(labels))
        if odd:
            raise DataError(f"`{name}` has labels that are not in the order given: {odd[0]}.")
        if len(set(texts.dropna())) < 2:
            raise DataError(f"The outcome `{name}` is the same in all rows: nothing to explain.")
        return texts, labels, np.zeros(0)
    if settings["labels"] is not None:
        raise ArgumentError(f"{setting('labels')} is for ordered and categorical outcomes.")
    column = frame[name]
    kinds = {str(v).lower() for v in column.dropna()}
    if family.name == "bernoulli" and kinds <= {"yes", "no", "true", "false"}:
        values = column.map(lambda v: np.nan if pd.isna(v) else str(v).lower() in ("yes", "true"))
        numbers = values.astype(float).to_numpy()
    else:
        numbers = numbers_in(frame, name, "outcome").to_numpy(float)
    family.check(numbers, name)
    return numbers, (), numbers


def _by_number(text: str) -> tuple[int, float, str]:
    try:
        return (0, float(text), text)
    except ValueError:
        return (1, 0.0, text)


def _group(
    frame: pd.DataFrame, name: str, terms: str, design: Design, columns: dict[str, Any]
) -> GroupTerms:
    """Return a set of group effects, and add its column of labels.

    Raises
    ------
    ArgumentError
        For terms that are not columns of the formula.
    DataError
        For a single label.
    """
    pieces = [piece.strip() for piece in name.split(":")]
    joined = joined_labels(frame, name)
    if len(set(joined)) < 2:
        raise DataError(f"`{name}` has one label: there is nothing that varies between groups.")
    column = re.sub(r"\W+", "_", "_".join(pieces)).strip("_") or "group"
    if not column.isidentifier():
        column = f"group_{column}"
    while column in columns:
        column += "_"
    columns[column] = joined
    asked = [term.strip() for term in terms.split("+")]
    found: list[str] = []
    for term in asked:
        if term in ("1", "0"):
            found += ["1"] * (term == "1")
        elif term in design.terms:
            found += design.terms[term]
        else:
            raise ArgumentError(
                f"`per` of `{name}`: `{term}` is not a term of the formula. Terms: 1, "
                f"{', '.join(design.terms)}."
            )
    if not found:
        raise ArgumentError(f"`per` of `{name}` has no terms: write '1', or '1 + hours'.")
    if "1" not in found and "0" not in asked:
        found.insert(0, "1")
    if len(set(found)) < len(found):
        raise ArgumentError(f"`per` of `{name}` names a term twice: {terms}.")
    return GroupTerms(name=name, column=column, terms=tuple(found))


def _choices(parts: RegressionParts, settings: Mapping[str, Any]) -> tuple[str, ...]:
    unit = f"{parts.unit:g}"
    lines = [
        f"Family {parts.family.name}, link {parts.link}."
        + (" One unit of the predictor is 1." if parts.unit == 1.0 else "")
    ]
    if parts.design.intercept:
        lines.append(
            "Predictors are shifted to mean 0 and scaled to sd 1 inside the model: `intercept` is "
            "for all of them at their means, `slope` for a change of one sd. The table gives both "
            "scales."
        )
    else:
        lines.append("Without an intercept predictors are not shifted.")
    lines.append(
        f"Usual priors, in units of the outcome's sd on the predictor's scale ({unit}): intercept "
        "normal, sd of 3 units, around the middle of the outcome; slopes normal(0, 2 units) for a "
        "change of one sd of the predictor; noise half-normal(3 units); spread between groups "
        "half-normal(1 unit)."
    )
    if parts.shrinkage is not None:
        lines.append(parts.shrinkage.words)
    if settings["priors"]:
        lines.append(
            f"Priors given by you: {', '.join(f'`{name}`' for name in settings['priors'])}."
        )
    if parts.family.name == "categorical":
        lines.append(
            "Every label has a base and coefficients of its own around 0; only their differences "
            "between labels matter."
        )
    for group in parts.groups:
        lines.append(
            f"Effects per `{group.name}`: {', '.join(group.terms)}"
            + (", correlated (lkj, shape 2)." if len(group.terms) > 1 else ".")
        )
    return tuple(lines)


def rebuild(
    data: pd.DataFrame, settings: Mapping[str, Any], remarks: tuple[str, ...]
) -> RegressionStudy:
    """Return a stored study."""
    rope = settings["rope"]
    known = {"expected_size": None, "always": [], **settings}
    return build(data, {**known, "rope": None if rope is None else tuple(rope)}, remarks)
