"""Studies of groups: one against a value, two or more against each other, pairs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np
import pandas as pd

from millwright.checks import check_mapping
from millwright.draws.decision import region_ends
from millwright.draws.numbers import decimals_of, fixed
from millwright.errors import ArgumentError
from millwright.models.model import Model
from millwright.models.quick import fit_small
from millwright.posterior.posterior import Posterior
from millwright.studies.checks import check_number
from millwright.studies.findings import Findings
from millwright.studies.group_data import GroupData, group_table, pair_table, single_table
from millwright.studies.group_findings import GroupFindings
from millwright.studies.group_models import (
    check_family,
    choices_of,
    evidence_model,
    groups_model,
    single_model,
)
from millwright.studies.study import Fitting, Study
from millwright.wording import setting

__all__ = ["GroupStudy", "one_group", "paired", "two_groups"]

_USUAL_EFFECT = "cauchy(0, 1)"
_USUAL_REGION = (-0.1, 0.1)


@dataclass(frozen=True, eq=False, kw_only=True)
class GroupStudy(Study):
    """Values in one group or several.

    Attributes
    ----------
    values
        The data, as values and labels.
    """

    name: ClassVar[str] = "groups"

    values: GroupData = field(repr=False)

    @property
    def kind(self) -> str:
        """Which study of groups it is."""
        return str(self.settings["kind"])

    def data_lines(self) -> tuple[str, ...]:
        """Return rows, mean and sd of each group."""
        data = self.values
        if data.group is None:
            parts = {data.outcome: data.values()}
            if self.settings["kind"] == "paired":
                first, second = data.labels
                parts = {one: data.frame[one].to_numpy(float) for one in (first, second)} | {
                    f"{second} minus {first}": data.values()
                }
        else:
            parts = {label: data.values(label) for label in data.labels}
        lines = tuple(_group_line(name, values) for name, values in parts.items())
        few = [label for label in data.labels if data.group and len(data.values(label)) == 1]
        return lines + tuple(
            f"`{label}` has a single row: its scale rests on the prior alone." for label in few
        )

    def _held(self, name: str) -> Mapping[str, Any]:
        """The models of the evidence are flat on what they share: held at the data's values."""
        if name == self.main:
            return {}
        values = self.values.values()
        held = {"log_scale": float(np.log(np.std(values, ddof=1)))}
        return held if self.values.group is None else {**held, "base": float(values.mean())}

    @property
    def main(self) -> str:
        """Name of the model that gives the answer."""
        return next(iter(self.models))

    def _sampled(self) -> tuple[str, ...]:
        return (self.main,)

    def _fit_one(self, name: str, how: Fitting) -> Posterior:
        rows = self.data_of(name)
        return fit_small(
            self.models[name], rows, how.save, how.settings, how.workers, how.progress
        )

    def _found(self, posteriors: Mapping[str, Posterior], settings: Mapping[str, Any]) -> Findings:
        return GroupFindings(study=self, posteriors=posteriors, fit_settings=settings)


def _group_line(name: str, values: np.ndarray) -> str:
    n = len(values)
    rows = f"{n} row{'s' * (n != 1)}"
    if n == 1:
        return f"`{name}`: {rows}, {values[0]:.4g}."
    spread = float(np.std(values, ddof=1))
    places = decimals_of(spread)
    return (
        f"`{name}`: {rows}, mean {fixed(float(values.mean()), places)}, sd "
        f"{fixed(spread, places)}, from {values.min():.6g} to {values.max():.6g}."
    )


def one_group(
    data: Any,
    outcome: str | None = None,
    *,
    against: float | None = None,
    family: str = "student_t",
    rope: tuple[float, float] | None = None,
    effect_rope: tuple[float, float] | None = _USUAL_REGION,
    effect: str = _USUAL_EFFECT,
    priors: Mapping[str, Any] | None = None,
    missing: str = "refuse",
) -> GroupStudy:
    """Ask where one group of values lies, and whether that differs from a value.

    Parameters
    ----------
    data
        DataFrame, or mapping of columns.
    outcome
        The column of numbers; it may be left out where there is one column.
    against
        A value to compare the location with.
    family
        `student_t`, robust, or `normal`.
    rope
        Region of practical equivalence of the difference from `against`, in the data's unit.
    effect_rope
        That of the standardised effect, by default -0.1 to 0.1, half of what is called a small
        effect (Kruschke 2018); None for none.
    effect
        Prior of the standardised effect in the evidence for a difference (Rouder et al. 2009).
    priors
        Priors in place of the usual ones, such as `{"location": "normal(50, 10)"}`.
    missing
        `refuse` rows without a value, or `drop` them.

    Returns
    -------
    The study; nothing is sampled yet.

    Raises
    ------
    ArgumentError
        For columns or settings that make no sense.
    DataError
        For data that cannot be studied.
    """
    values = single_table(data, outcome, missing)
    settings = {
        "kind": "one_group",
        "against": against,
        "family": family,
        "rope": rope,
        "effect_rope": effect_rope,
        "effect": effect,
        "pooled": False,
        "priors": check_mapping("priors", priors),
    }
    return build(values, settings)


def paired(
    data: Any,
    first: str | None = None,
    second: str | None = None,
    *,
    against: float = 0.0,
    family: str = "student_t",
    rope: tuple[float, float] | None = None,
    effect_rope: tuple[float, float] | None = _USUAL_REGION,
    effect: str = _USUAL_EFFECT,
    priors: Mapping[str, Any] | None = None,
    missing: str = "refuse",
) -> GroupStudy:
    """Ask how much pairs of values differ: the second minus the first, row by row.

    Parameters
    ----------
    data
        DataFrame, or mapping of columns; one row a pair.
    first, second
        The two columns of numbers.
    against
        The difference to compare with, by default 0.
    family, rope, effect_rope, effect, priors, missing
        As for `one_group`, of the differences.

    Returns
    -------
    The study; nothing is sampled yet.

    Raises
    ------
    ArgumentError
        For columns or settings that make no sense.
    DataError
        For data that cannot be studied.
    """
    values = pair_table(data, first, second, missing)
    settings = {
        "kind": "paired",
        "against": against,
        "family": family,
        "rope": rope,
        "effect_rope": effect_rope,
        "effect": effect,
        "pooled": False,
        "priors": check_mapping("priors", priors),
        "labels": list(values.labels),
    }
    return build(values, settings)


def two_groups(
    data: Any,
    outcome: str | None = None,
    group: str | None = None,
    *,
    columns: Sequence[str] | None = None,
    labels: Sequence[Any] | None = None,
    family: str = "student_t",
    pooled: bool = False,
    rope: tuple[float, float] | None = None,
    effect_rope: tuple[float, float] | None = _USUAL_REGION,
    effect: str = _USUAL_EFFECT,
    priors: Mapping[str, Any] | None = None,
    missing: str = "refuse",
) -> GroupStudy:
    """Ask how two groups of values differ, or several pairwise: the later minus the earlier.

    Each group has a location and a scale of its own; all share how heavy the tails are.

    Parameters
    ----------
    data
        DataFrame, or mapping of columns.
    outcome, group
        The column of numbers, and that of labels.
    columns
        Instead: the columns that hold one group each; they may be of unequal length.
    labels
        Which labels, and in which order; by default all, in the order of a categorical column,
        else sorted.
    family
        `student_t`, robust, or `normal`.
    pooled
        Whether groups lie around a common base, so that those with few rows lean on the others.
    rope
        Region of practical equivalence of the difference of locations, in the data's unit.
    effect_rope
        That of the standardised effect, the difference over the root mean square of the two
        scales; by default -0.1 to 0.1, half of what is called a small effect (Kruschke 2018).
    effect
        Prior of the standardised effect in the evidence for a difference (Rouder et al. 2009).
    priors
        Priors in place of the usual ones, such as `{"scale": "half_normal(2)"}`.
    missing
        `refuse` rows with a gap, or `drop` them.

    Returns
    -------
    The study; nothing is sampled yet.

    Raises
    ------
    ArgumentError
        For columns or settings that make no sense.
    DataError
        For data that cannot be studied.
    """
    values = group_table(data, outcome, group, columns, labels, missing)
    settings = {
        "kind": "two_groups",
        "against": None,
        "family": family,
        "rope": rope,
        "effect_rope": effect_rope,
        "effect": effect,
        "pooled": bool(pooled),
        "priors": check_mapping("priors", priors),
        "outcome": values.outcome,
        "group": values.group,
        "labels": list(values.labels),
    }
    return build(values, settings)


def build(values: GroupData, settings: Mapping[str, Any]) -> GroupStudy:
    """Return the study of values under settings, all checked."""
    against, family = settings["against"], settings["family"]
    check_family(family)
    if against is not None or settings["kind"] == "paired":
        check_number("against", against)
    for name in ("rope", "effect_rope"):
        if settings[name] is not None:
            region_ends(settings[name], name)
    if settings["rope"] is not None and settings["kind"] == "one_group" and against is None:
        raise ArgumentError(
            f"{setting('rope')} is a region of the difference from {setting('against')}, which "
            "is not given."
        )
    question = _question(values, settings)
    given = settings["priors"]
    if values.group is None:
        main = single_model(values, family, against, given, question)
    else:
        main = groups_model(values, family, settings["pooled"], given, question)
    models = {"robust" if family == "student_t" else "normal": main}
    models |= _evidence_models(values, settings)
    choices = choices_of(family, settings["pooled"], given)
    if len(models) > 1:
        choices += (
            "Evidence: two further models, normal with one scale, flat on the mean and the log of "
            "the scale, with and without an effect (difference over scale), whose prior is "
            f"{settings['effect']} (Rouder et al. 2009). They are weighed exactly, not sampled.",
        )
    if settings["effect_rope"] is not None and _compares(settings):
        low, high = settings["effect_rope"]
        choices += (
            f"Region of practical equivalence of the effect: {low:g} to {high:g}"
            f"{', half of a small effect' * (tuple(settings['effect_rope']) == _USUAL_REGION)}.",
        )
    return GroupStudy(
        question=question,
        data=values.frame,
        models=models,
        choices=choices,
        remarks=values.remarks,
        settings=settings,
        values=values,
    )


def _compares(settings: Mapping[str, Any]) -> bool:
    return settings["kind"] != "one_group" or settings["against"] is not None


def _evidence_models(values: GroupData, settings: Mapping[str, Any]) -> dict[str, Model]:
    """Return the two models of the evidence, where it can be had from a t statistic."""
    if not _compares(settings) or (values.group is not None and len(values.labels) > 2):
        return {}
    if len(values.frame) < (2 if values.group is None else 3):
        return {}
    against = settings["against"]
    return {
        "effect": evidence_model(values, settings["effect"], against, "An effect is there"),
        "no effect": evidence_model(values, None, against, "No effect"),
    }


def _question(values: GroupData, settings: Mapping[str, Any]) -> str:
    name, against = values.outcome, settings["against"]
    if settings["kind"] == "paired":
        first, second = values.labels
        by = "" if against == 0 else f" by other than {against:g}"
        return f"Does `{second}` differ from `{first}`, pair by pair{by}?"
    if values.group is None:
        if against is None:
            return f"Where do the values of `{name}` lie, and how far do they spread?"
        return f"Does `{name}` differ from {against:g}?"
    if len(values.labels) == 2:
        one, other = values.labels
        return f"Does `{name}` differ between {one} and {other}?"
    return f"How does `{name}` differ between the {len(values.labels)} labels of `{values.group}`?"


def rebuild(
    data: pd.DataFrame, settings: Mapping[str, Any], remarks: tuple[str, ...]
) -> GroupStudy:
    """Return a stored study."""
    kind = settings["kind"]
    labels = tuple(settings.get("labels", ()))
    if kind == "two_groups":
        outcome, group = settings["outcome"], settings["group"]
    else:
        outcome, group = str(data.columns[-1]), None
    for name in ("rope", "effect_rope"):
        if settings[name] is not None:
            settings = {**settings, name: tuple(settings[name])}
    values = GroupData(frame=data, outcome=outcome, group=group, labels=labels, remarks=remarks)
    return build(values, settings)
