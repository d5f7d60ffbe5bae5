"""The visible model of a regression, with its usual priors."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd

from millwright.errors import ArgumentError, DataError
from millwright.language.printing import number_text
from millwright.language.vocabulary import RESERVED
from millwright.models.model import Model
from millwright.studies.design import Design
from millwright.studies.families import FamilyOfOutcomes
from millwright.studies.group_models import text_of
from millwright.studies.priors import with_priors
from millwright.studies.reading import Names, named
from millwright.studies.scales import spread_text
from millwright.studies.shrinkage import Shrinkage
from millwright.wording import setting

__all__ = ["GroupTerms", "RegressionParts", "regression_model", "usual_priors"]

_DEFINITIONS = (
    *("intercept", "slope", "base", "cuts", "noise", "df", "df_above_one", "shape", "zeros"),
    *("precision", "log_scale", "scale_slope", "scale", "predictor", "scale_predictor", "cut"),
    *("global_scale", "shrinkage", "part", "candidate", "candidate_slope"),
)


@dataclass(frozen=True, kw_only=True)
class GroupTerms:
    """Effects of the labels of one column.

    Attributes
    ----------
    name
        The column, or columns joined by a colon, whose labels are the groups.
    column
        What the model calls it.
    terms
        `1` for the intercept, and columns of the design whose slopes vary.
    """

    name: str
    column: str
    terms: tuple[str, ...]

    @property
    def effect(self) -> str:
        """Name of the effects."""
        return f"{self.column}_effect"

    @property
    def spread(self) -> str:
        """Name of their standard deviations."""
        return f"{self.column}_spread"

    @property
    def tie(self) -> str:
        """Name of their correlations."""
        return f"{self.column}_tie"

    @property
    def axis(self) -> str:
        """Label set of the terms."""
        return f"{self.column}_term"


@dataclass(frozen=True, kw_only=True)
class RegressionParts:
    """What a regression is made of.

    Attributes
    ----------
    frame
        The rows that the model uses: outcome, columns of the designs, labels, offsets.
    outcome
        The column of the outcome, and `labels` of it where it has any.
    design, scale_design
        Columns of the location, and of the logarithm of the scale.
    groups
        Sets of group effects.
    own
        By coefficient: a prior on the scale of the data, in place of the common one.
    shrinkage
        Slopes that are pulled to 0; None where none are.
    """

    frame: pd.DataFrame = field(repr=False)
    outcome: str
    labels: tuple[str, ...]
    family: FamilyOfOutcomes
    link: str
    design: Design
    scale_design: Design | None
    groups: tuple[GroupTerms, ...]
    offset: str | None
    exposure: str | None
    trials: str | None
    weights: str | None
    censored: tuple[float | None, float | None]
    own: Mapping[str, str]
    unit: float
    centre: float
    shrinkage: Shrinkage | None = None

    @property
    def shrunk(self) -> tuple[str, ...]:
        """Columns whose slopes are pulled to 0."""
        return () if self.shrinkage is None else self.shrinkage.columns

    @property
    def common(self) -> tuple[str, ...]:
        """Columns whose slopes have the common prior."""
        other = {*self.own, *self.shrunk}
        return tuple(name for name in self.design.names if name not in other)


def column_name(name: str) -> str:
    """Return what the model's data call a column of a design: no name of the model's own."""
    own = name in _DEFINITIONS or re.fullmatch(r"slope_\d+|.*_(effect|spread|tie|term)", name)
    return f"{name}_column" if own or name in RESERVED else name


def own_name(parts: RegressionParts, column: str) -> str:
    """Return the name of a slope with a prior of its own."""
    return f"slope_{1 + list(parts.own).index(column)}"


def usual_priors(parts: RegressionParts) -> dict[str, str]:
    """Return the usual prior of every unknown, by class."""
    unit = parts.unit
    priors: dict[str, str] = {}
    kind = parts.family.name
    if kind == "ordered":
        priors["cuts"] = "ordered(normal(0, 3)) per cut"
    elif kind == "categorical":
        priors["base"] = f"normal(0, 3) per {{{parts.outcome}}}"
    elif parts.design.intercept:
        priors["intercept"] = f"normal({number_text(parts.centre)}, {spread_text(3 * unit)})"
    if parts.common and (parts.design.intercept or kind in ("ordered", "categorical")):
        per = f", {{{parts.outcome}}}" if kind == "categorical" else ""
        priors["slope"] = f"normal(0, {spread_text(2 * unit)}) per predictor{per}"
    if parts.shrinkage is not None:
        priors |= parts.shrinkage.priors
    for name, text in parts.family.priors.items():
        if name != "noise" or parts.scale_design is None:
            priors[name] = text.replace("NOISE", spread_text(3 * unit))
    if parts.scale_design is not None:
        priors["log_scale"] = f"normal({number_text(round(float(np.log(unit)), 2))}, 1)"
        priors["scale_slope"] = "normal(0, 0.5) per scale_predictor"
    for group in parts.groups:
        per = f" per {group.axis}" if len(group.terms) > 1 else ""
        priors[group.spread] = f"half_normal({spread_text(unit)}){per}"
        if len(group.terms) > 1:
            priors[group.tie] = f"lkj(shape=2) per {group.axis}"
    return priors


def regression_model(parts: RegressionParts, given: Mapping[str, str], title: str) -> Model:
    """Return the model.

    Parameters
    ----------
    given
        Priors by class in place of the usual ones.
    """
    names = _columns(parts)
    usual = {
        key: text.replace(f"{{{parts.outcome}}}", names.of[parts.outcome])
        for key, text in usual_priors(parts).items()
    }
    priors = with_priors(usual, given)
    terms, columns = _predictor(parts, names, priors)
    for group in parts.groups:
        terms += _group_terms(group, parts, names, priors)
    scale = _scale(parts, names, columns)
    eta = " + ".join(terms) or "0"
    trials = "" if parts.trials is None else names.of[parts.trials]
    text = parts.family.text(f"({eta})" if len(terms) > 1 else eta, parts.link, scale, trials)
    low, high = parts.censored
    if low is not None or high is not None:
        ends = {"low": low, "high": high}
        limits = [f"{k}={number_text(float(end))}" for k, end in ends.items() if end is not None]
        text = f"censored({text}, {', '.join(limits)})"
    labels: dict[str, Any] = {
        group.axis: list(group.terms) for group in parts.groups if len(group.terms) > 1
    }
    if parts.labels:
        labels[names.of[parts.outcome]] = list(parts.labels)
    if parts.family.name == "ordered":
        labels["cut"] = f"between {names.of[parts.outcome]}"
    return Model(
        title=title,
        priors=priors,
        likelihood={names.of[parts.outcome]: text},
        derived=_derived(parts),
        columns={**names.aliases, **columns},
        labels=labels,
    )


def _derived(parts: RegressionParts) -> dict[str, str]:
    found = {"df": "1 + df_above_one"} if "df_above_one" in parts.family.priors else {}
    if parts.shrinkage is not None:
        found["candidate_slope"] = parts.shrinkage.slope
    return found


def _columns(parts: RegressionParts) -> Names:
    """Return how the model calls the columns."""
    every: dict[str, str] = {parts.outcome: "outcome"}
    for name in (parts.offset, parts.exposure, parts.trials, parts.weights):
        if name is not None:
            every[name] = "column"
    alone = [*parts.own]
    if not parts.design.intercept and parts.family.name not in ("ordered", "categorical"):
        alone = list(parts.design.names)
    for group in parts.groups:
        every[group.column] = group.column
        alone += [term for term in group.terms if term != "1"]
    for name in alone:
        every.setdefault(column_name(name), "predictor_column")
    taken = [*_DEFINITIONS]
    for group in parts.groups:
        taken += [group.effect, group.spread, group.tie, group.axis]
    taken += [f"slope_{at + 1}" for at in range(len(parts.design.names))]
    return named(every, taken)


def _predictor(
    parts: RegressionParts, names: Names, priors: dict[str, Any]
) -> tuple[list[str], dict[str, list[str]]]:
    """Return terms of the predictor, and matrices of columns."""
    terms: list[str] = []
    columns: dict[str, list[str]] = {}
    design = parts.design
    if "intercept" in priors:
        terms.append("intercept")
    if "base" in priors:
        terms.append("base")
    if "slope" in priors:
        columns["predictor"] = [column_name(name) for name in parts.common]
        terms.append("standardise(predictor) @ slope")
    elif parts.common:
        # Without an intercept columns are not shifted; each has a prior on its own scale.
        for at, name in enumerate(parts.common):
            key = f"slope_{len(parts.own) + at + 1}"
            spread = float(design.spread[design.names.index(name)])
            priors[key] = f"normal(0, {spread_text(2 * parts.unit / spread)})"
            terms.append(f"{key} * {names.of[column_name(name)]}")
    if parts.shrunk:
        columns["candidate"] = [column_name(name) for name in parts.shrunk]
        terms.append("standardise(candidate) @ candidate_slope")
    for name, text in parts.own.items():
        key = own_name(parts, name)
        priors[key] = text
        column = names.of[column_name(name)]
        shifted = f"({column} - mean({column}))" if design.intercept else column
        terms.append(f"{key} * {shifted}")
    if parts.offset is not None:
        terms.append(names.of[parts.offset])
    if parts.exposure is not None:
        terms.append(f"log({names.of[parts.exposure]})")
    return terms, columns


def _group_terms(
    group: GroupTerms, parts: RegressionParts, names: Names, priors: dict[str, Any]
) -> list[str]:
    """Return the terms of a set of group effects, and add their prior."""
    column = names.of[group.column]
    if group.terms == ("1",):
        priors[group.effect] = f"normal(0, {group.spread}) per {column}"
        return [f"{group.effect}[{column}]"]
    if len(group.terms) == 1:
        priors[group.effect] = f"normal(0, {group.spread}) per {column}"
        return [f"{group.effect}[{column}] * {_scaled(group.terms[0], names)}"]
    priors[group.effect] = (
        f"multivariate_normal(0, scales={group.spread}, correlation={group.tie}) per {column}, "
        f"{group.axis}"
    )
    found = []
    for term in group.terms:
        one = f"{group.effect}[{column}, {text_of(term)}]"
        found.append(one if term == "1" else f"{one} * {_scaled(term, names)}")
    return found


def _scaled(term: str, names: Names) -> str:
    column = names.of[column_name(term)]
    return f"({column} - mean({column})) / sd({column})"


def _scale(parts: RegressionParts, names: Names, columns: dict[str, list[str]]) -> str:
    """Return the text of the scale of the outcome."""
    scale = "noise"
    if parts.scale_design is not None:
        columns["scale_predictor"] = [f"scale of {name}" for name in parts.scale_design.names]
        scale = "exp(log_scale + standardise(scale_predictor) @ scale_slope)"
    if parts.weights is not None:
        scale = f"{scale} / sqrt({names.of[parts.weights]})"
    return scale


def check_parts(parts: RegressionParts) -> None:
    """Refuse parts that do not go together.

    Raises
    ------
    ArgumentError, DataError
        Which say what does not.
    """
    kind = parts.family.name
    if parts.scale_design is not None and not parts.family.has_scale:
        raise ArgumentError(f"{setting('scale')} is for families with a noise, not {kind}.")
    if parts.weights is not None:
        if kind not in ("normal", "student_t"):
            raise ArgumentError(
                f"{setting('weights')} divide the variance of a normal or student_t outcome; for "
                "counts give exposure or trials."
            )
        values = parts.frame[parts.weights].to_numpy(float)
        if not (values > 0).all():
            raise DataError(f"`{parts.weights}`: weights must be above zero.")
    if parts.exposure is not None:
        if parts.link != "log":
            raise ArgumentError(f"{setting('exposure')} is for counts, whose link is log.")
        if not (parts.frame[parts.exposure].to_numpy(float) > 0).all():
            raise DataError(f"`{parts.exposure}`: an exposure must be above zero.")
    if (parts.trials is not None) != (kind == "binomial"):
        raise ArgumentError(
            f"{setting('trials')} goes with family binomial, and family binomial needs it."
        )
    if any(end is not None for end in parts.censored) and not (
        parts.family.has_scale or kind == "gamma"
    ):
        raise ArgumentError("Limits of censoring are for continuous outcomes.")
