"""The parts of a regression from a formula, a table and settings, all checked."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np
import pandas as pd

from millwright.checks import check_text
from millwright.draws.decision import region_ends
from millwright.errors import ArgumentError, DataError, nearest
from millwright.studies.checks import check_number
from millwright.studies.design import Design, design_of, read_formula
from millwright.studies.families import FamilyOfOutcomes
from millwright.studies.reading import joined_labels, labels_in, numbers_in
from millwright.studies.regression_model import (
    GroupTerms,
    RegressionParts,
    column_name,
    usual_priors,
)
from millwright.studies.shrinkage import Shrinkage, check_size, noise_on_predictor
from millwright.wording import setting

__all__ = ["check_named", "parts_of", "refuse_flat"]

_LABELLED = ("ordered", "categorical")


def refuse_flat(settings: Mapping[str, Any]) -> None:
    for name, text in settings["priors"].items():
        if "flat" in str(text) and not settings["flat"]:
            raise ArgumentError(
                f"The prior of `{name}` is flat: then nothing can be simulated before the data, "
                "no evidence exists, and a separated or aliased coefficient has no answer. State "
                f"a wide one, or, if it is meant, {setting('flat', True)}."
            )


def parts_of(
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
    for end, limit in zip(("censored_low", "censored_high"), censored, strict=True):
        if limit is not None:
            check_number(end, limit)
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


def check_named(settings: Mapping[str, Any], parts: Mapping[str, RegressionParts]) -> None:
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
    pieces = [piece.strip() for piece in check_text("per", name).split(":")]
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
