"""The study of proportions: shares of successes in one group, several groups, or pairs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np
import pandas as pd

from millwright.draws.decision import region_ends
from millwright.errors import ArgumentError, DataError
from millwright.posterior.posterior import Posterior
from millwright.studies.beta_integrals import Beta
from millwright.studies.checks import check_number
from millwright.studies.exact import exact_fit
from millwright.studies.findings import Findings
from millwright.studies.proportion_data import PAIRS, CountData, count_table, pattern_table
from millwright.studies.proportion_findings import PairFindings, ProportionFindings
from millwright.studies.proportion_models import (
    USUAL,
    beta_of,
    dispersion_prior,
    pair_model,
    share_model,
    share_priors,
)
from millwright.studies.study import Fitting, Study
from millwright.wording import setting

__all__ = ["ProportionStudy", "proportions"]

_FAMILIES = ("binomial", "beta_binomial")
_DRAWS = 5000
_DISPERSION = "beta(alpha=1, beta=9)"


@dataclass(frozen=True, eq=False, kw_only=True)
class ProportionStudy(Study):
    """Shares of successes.

    Attributes
    ----------
    counts
        Successes among trials.
    priors
        The prior of each group's share.
    """

    name: ClassVar[str] = "proportions"

    counts: CountData = field(repr=False)
    priors: Mapping[str | None, Beta] = field(repr=False)

    @property
    def paired(self) -> bool:
        """Whether the rows are pairs of answers."""
        return bool(self.settings["paired"])

    def data_lines(self) -> tuple[str, ...]:
        """Return successes and trials of each group."""
        data = self.counts
        if self.paired:
            found = data.frame[data.outcome].value_counts()
            first, second = data.labels
            cells = ", ".join(f"{name}: {int(found.get(name, 0))}" for name in PAIRS)
            return (
                f"{len(data.frame)} pairs (`{first}`, `{second}`), yes where {data.yes}: {cells}.",
            )
        lines = []
        for label in data.groups:
            won, tried = data.counts(label)
            share = f" ({won.sum() / tried.sum():.3f})" if tried.sum() else ""
            rows = f" in {len(won)} rows" if data.trials is not None and len(won) > 1 else ""
            of = f"`{label}`: " if label is not None else ""
            lines.append(f"{of}{won.sum():.0f} of {tried.sum():.0f}{share}{rows}.")
        if data.trials is None:
            lines.append(f"A success is {data.yes}.")
        return tuple(lines)

    def _sampled(self) -> tuple[str, ...]:
        return (next(iter(self.models)),)

    def _fit_one(self, name: str, how: Fitting) -> Posterior:
        if self.settings["family"] == "beta_binomial":
            return super()._fit_one(name, how)
        settings = {"draws": _DRAWS, **how.settings}
        return exact_fit(
            self.models[name], self.data, self._drawn, self._how(), settings, how.save
        )

    def _how(self) -> str:
        kind = "Dirichlet" if self.paired else "beta"
        return f"independent draws of the {kind} posterior, which is known in closed form"

    def _drawn(self, generator: np.random.Generator, draws: int) -> dict[str, np.ndarray]:
        if self.paired:
            found = self.counts.frame[self.counts.outcome].value_counts()
            weights = [self.settings["concentration"] + int(found.get(name, 0)) for name in PAIRS]
            return {"cells": generator.dirichlet(weights, draws)}
        every = [self.after(label) for label in self.counts.groups]
        shares = [generator.beta(one.alpha, one.beta, draws) for one in every]
        return {"share": np.stack(shares, axis=1)}

    def after(self, label: str | None) -> Beta:
        """Return the posterior of the share of a group, under binomial counts."""
        won, tried = self.counts.counts(label)
        return self.priors[label].after(float(won.sum()), float((tried - won).sum()))

    def _found(self, posteriors: Mapping[str, Posterior], settings: Mapping[str, Any]) -> Findings:
        kind = PairFindings if self.paired else ProportionFindings
        return kind(study=self, posteriors=posteriors, fit_settings=settings)


def proportions(
    data: Any,
    outcome: str | None = None,
    group: str | None = None,
    *,
    trials: str | None = None,
    first: str | None = None,
    second: str | None = None,
    labels: Sequence[Any] | None = None,
    yes: Any = None,
    against: float | None = None,
    family: str = "binomial",
    prior: str | Mapping[str, str] | None = None,
    same: str | None = None,
    overdispersion: str = _DISPERSION,
    concentration: float = 1.0,
    rope: tuple[float, float] | None = None,
    missing: str = "refuse",
) -> ProportionStudy:
    """Ask how large shares of successes are, and whether they differ between groups.

    Parameters
    ----------
    data
        DataFrame, or mapping of columns.
    outcome
        The column of successes, or, without `trials`, of yes/no answers.
    group
        The column of labels; without it there is one share.
    trials
        The column of all trials, successes and failures; a group may have several rows.
    first, second
        Instead of `outcome`: two columns of yes/no answers of the same rows, which are compared.
    labels
        Which labels, and in which order; by default all, in the order of a categorical column,
        else sorted. Differences are the later minus the earlier.
    yes
        The answer that counts as a success; by default `yes`, `true` or 1.
    against
        A share to compare a single group with.
    family
        `binomial`, whose answer is exact; or `beta_binomial`, for rows of a group that vary more
        than that, which is sampled.
    prior
        Beta prior of each share, by default beta(alpha=1, beta=1); or a mapping from labels.
    same
        Beta prior of the one share if all are the same, in the evidence; by default that of all
        groups, or beta(alpha=1, beta=1) where theirs differ.
    overdispersion
        Prior of how much alike the trials of a row are, from 0 (binomial) to 1 (all of a row the
        same).
    concentration
        Of pairs: concentration of the Dirichlet prior of their four patterns.
    rope
        Region of practical equivalence of the difference of shares, or from `against`.
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
    paired = first is not None or second is not None
    if paired:
        for name, value in (("outcome", outcome), ("group", group), ("trials", trials)):
            if value is not None:
                raise ArgumentError(
                    f"{setting(name)} does not go with {setting('first')} and "
                    f"{setting('second')}, the two answers of pairs."
                )
        counts = pattern_table(data, first, second, yes, missing)
    else:
        counts = count_table(data, outcome, trials, group, labels, yes, missing)
    settings = {
        "paired": paired,
        "outcome": counts.outcome,
        "trials": counts.trials,
        "group": counts.group,
        "labels": list(counts.labels),
        "yes": counts.yes,
        "against": against,
        "family": family,
        "prior": dict(prior) if isinstance(prior, Mapping) else prior,
        "same": same,
        "overdispersion": overdispersion,
        "concentration": concentration,
        "rope": rope,
    }
    return build(counts, settings)


def build(counts: CountData, settings: Mapping[str, Any]) -> ProportionStudy:
    """Return the study of counts under settings, all checked."""
    _check(counts, settings)
    question = _question(counts, settings)
    choices: tuple[str, ...]
    if settings["paired"]:
        models = {"patterns": pair_model(counts, settings["concentration"], question)}
        priors: dict[str | None, Beta] = {}
        choices = (
            "Shares of the four patterns of a pair have a Dirichlet prior with concentration "
            f"{settings['concentration']:g}, uniform where that is 1.",
        )
    else:
        priors = share_priors(counts, settings["prior"])
        same = _same(priors, settings["same"])
        models = _models(counts, settings, priors, same, question)
        choices = _choices(counts, settings, models)
    return ProportionStudy(
        question=question,
        data=counts.frame,
        models=models,
        choices=choices,
        remarks=counts.remarks,
        settings=settings,
        counts=counts,
        priors=priors,
    )


def _check(counts: CountData, settings: Mapping[str, Any]) -> None:
    if settings["family"] not in _FAMILIES:
        raise ArgumentError(
            f"`family` must be one of {', '.join(_FAMILIES)}, not {settings['family']!r}."
        )
    if settings["family"] == "beta_binomial" and counts.trials is None:
        raise ArgumentError(
            "`family` beta_binomial needs rows of several trials: one trial a row shows nothing "
            "of how rows vary."
        )
    if settings["rope"] is not None:
        region_ends(settings["rope"])
    check_number("concentration", settings["concentration"])
    if settings["concentration"] <= 0:
        raise ArgumentError("`concentration` must be above 0.")
    against = settings["against"]
    if against is not None:
        check_number("against", against)
        if not 0 < against < 1:
            raise ArgumentError(f"`against` is a share, above 0 and below 1, not {against!r}.")
        if len(counts.labels) > 0:
            raise ArgumentError(f"{setting('against')} is for a single group.")
    if counts.group is not None and len(counts.labels) < 2:
        raise DataError(
            f"`{counts.group}` has one label, `{counts.labels[0]}`: leave {setting('group')} out "
            "to ask for one share."
        )
    if settings["rope"] is not None and not counts.labels and against is None:
        raise ArgumentError(
            f"{setting('rope')} is a region of the difference from {setting('against')}, which "
            "is not given."
        )


def _same(priors: Mapping[str | None, Beta], given: str | None) -> Beta:
    """Return the prior of one share for all groups."""
    if given is not None:
        return beta_of(given, "the one share")
    every = set(priors.values())
    return next(iter(every)) if len(every) == 1 else beta_of(USUAL, "the one share")


def _models(
    counts: CountData,
    settings: Mapping[str, Any],
    priors: Mapping[str | None, Beta],
    same: Beta,
    question: str,
) -> dict[str, Any]:
    """Return the models: the one that answers, and those that are weighed against it."""
    found = {"binomial": share_model(counts, priors, question)}
    if has_rows(counts):
        dispersion_prior(settings["overdispersion"])
        over = share_model(
            counts,
            priors,
            "Rows of a group vary more",
            overdispersion=settings["overdispersion"],
        )
        if settings["family"] == "beta_binomial":
            found = {"beta-binomial": over, **found}
        else:
            found["beta-binomial"] = over
    elif settings["family"] == "beta_binomial":
        raise DataError(
            "No group has several rows of several trials, so nothing shows how rows vary: "
            f"{setting('family', 'binomial')}."
        )
    if counts.group is not None:
        found["all the same"] = share_model(counts, priors, "All shares are the same", same=same)
    return found


def has_rows(counts: CountData) -> bool:
    """Whether some group has several rows, of which one has several trials."""
    if counts.trials is None:
        return False
    rows = [counts.counts(label)[1] for label in counts.groups]
    return any((tried > 0).sum() > 1 and (tried > 1).any() for tried in rows)


def _choices(
    counts: CountData, settings: Mapping[str, Any], models: Mapping[str, Any]
) -> tuple[str, ...]:
    given = settings["prior"]
    lines = [
        "Beta priors of shares given by you."
        if given is not None
        else "Each share has a beta(alpha=1, beta=1) prior, uniform from 0 to 1."
    ]
    if settings["family"] == "binomial":
        lines.append("The posterior is exact (beta), and drawn independently.")
    if counts.group is not None:
        lines.append(
            f"Order of the groups: {', '.join(counts.labels)}; differences and ratios are the "
            "later against the earlier."
        )
    if "all the same" in models:
        lines.append("Evidence: one share for all groups against one for each, exact.")
    if "beta-binomial" in models:
        lines.append(
            f"Over-dispersion of rows has the prior {settings['overdispersion']}: the mean is 0.1 "
            "by default. The model is weighed by quadrature."
        )
    return tuple(lines)


def _question(counts: CountData, settings: Mapping[str, Any]) -> str:
    if settings["paired"]:
        first, second = counts.labels
        return f"Is yes more frequent in `{second}` than in `{first}`, pair by pair?"
    what = f"`{counts.outcome}`" if counts.trials else f"rows with {counts.yes}"
    of = f" among `{counts.trials}`" if counts.trials else ""
    if counts.group is None:
        if settings["against"] is None:
            return f"How large is the share of {what}{of}?"
        return f"Does the share of {what}{of} differ from {settings['against']:g}?"
    if len(counts.labels) == 2:
        one, other = counts.labels
        return f"Does the share of {what}{of} differ between {one} and {other}?"
    return f"How does the share of {what}{of} differ between the labels of `{counts.group}`?"


def rebuild(
    data: pd.DataFrame, settings: Mapping[str, Any], remarks: tuple[str, ...]
) -> ProportionStudy:
    """Return a stored study."""
    counts = CountData(
        frame=data,
        outcome=settings["outcome"],
        trials=settings["trials"],
        group=settings["group"],
        labels=tuple(settings["labels"]),
        yes=settings["yes"],
        remarks=remarks,
    )
    rope = settings["rope"]
    return build(counts, {**settings, "rope": None if rope is None else tuple(rope)})
