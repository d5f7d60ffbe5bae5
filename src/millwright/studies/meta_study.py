"""The study of several trials: what their estimates say together."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, ClassVar

import numpy as np
import pandas as pd

from millwright.draws.decision import region_ends
from millwright.draws.known_priors import KnownPrior
from millwright.errors import ArgumentError
from millwright.models.model import Model
from millwright.posterior.posterior import Posterior
from millwright.studies.checks import check_number
from millwright.studies.exact import exact_fit
from millwright.studies.findings import Findings
from millwright.studies.meta_bias_findings import check_direction, check_effects
from millwright.studies.meta_data import TrialData, check_trials, trial_table
from millwright.studies.meta_evidence import prior_shares
from millwright.studies.meta_findings import MetaFindings
from millwright.studies.meta_models import (
    KINDS,
    check_priors,
    meta_model,
    number_prior,
    usual_priors,
)
from millwright.studies.meta_posterior import MetaPosterior, Trials
from millwright.studies.study import Fitting, Study
from millwright.wording import setting

__all__ = ["MetaStudy", "meta_analysis"]

_DRAWS = 2500
_FAR = 5.0
_NEAR = 0.02


@dataclass(frozen=True, eq=False, kw_only=True)
class MetaStudy(Study):
    """Estimates of several trials.

    Attributes
    ----------
    table
        The trials.
    """

    name: ClassVar[str] = "meta_analysis"

    table: TrialData = field(repr=False)

    def data_lines(self) -> tuple[str, ...]:
        """Return how many trials there are, and the range of their estimates."""
        trials, labels = self.table.trials, self.table.labels
        low, high = (int(f(trials.estimates)) for f in (np.argmin, np.argmax))
        count = f"{len(trials)} trial{'s' * (len(trials) != 1)}"
        spread = (
            f"estimates from {trials.estimates[low]:.4g} (`{labels[low]}`) to "
            f"{trials.estimates[high]:.4g} (`{labels[high]}`), standard errors from "
            f"{trials.errors.min():.3g} to {trials.errors.max():.3g}"
        )
        return (f"{count}: {spread}.",)

    @cached_property
    def priors(self) -> dict[str, KnownPrior]:
        """Priors of effect and spread, and of the effect under the null where that is one."""
        names = ("effect", "spread", *(("null",) if self.settings["null"] else ()))
        return {
            name: number_prior("spread" if name == "spread" else "effect", self.settings[name])
            for name in names
        }

    @cached_property
    def model_priors(self) -> dict[str, float]:
        """Prior probability of each model."""
        return prior_shares(tuple(KINDS), self.settings["prior"])

    def quadrature(self, kind: str, trials: Trials | None = None, **priors: str) -> MetaPosterior:
        """Return a model's posterior by quadrature.

        Parameters
        ----------
        kind
            `random`, `common`, `null random` or `null common`.
        trials
            Other trials than those of the study.
        priors
            `effect` or `spread` in place of the study's.
        """
        known = {**self.priors, **{name: number_prior(name, one) for name, one in priors.items()}}
        of = KINDS[kind]
        return MetaPosterior(
            trials=self.table.trials if trials is None else trials,
            effect=known["effect"] if of.effect else known.get("null"),
            spread=known["spread"] if of.spread else None,
        )

    def quadratures(self, trials: Trials, **priors: str) -> dict[str, MetaPosterior]:
        """Return every model's posterior of some trials by quadrature, by name."""
        return {kind: self.quadrature(kind, trials, **priors) for kind in KINDS}

    @cached_property
    def exact(self) -> dict[str, MetaPosterior]:
        """Every model's posterior by quadrature, by name."""
        return self.quadratures(self.table.trials)

    @cached_property
    def without(self) -> dict[str, dict[str, MetaPosterior]]:
        """The same without each trial, by its label."""
        trials = self.table.trials
        found = {}
        for at, label in enumerate(self.table.labels):
            rest = Trials(np.delete(trials.estimates, at), np.delete(trials.errors, at))
            found[label] = self.quadratures(rest)
        return found

    def _fit_one(self, name: str, how: Fitting) -> Posterior:
        words = "independent draws: spread, then effect given it, by quadrature"
        drawn, settings = self.exact[name].draws, {"draws": _DRAWS, **how.settings}
        return exact_fit(self.models[name], self.data_of(name), drawn, words, settings, how.save)

    def _found(self, posteriors: Mapping[str, Posterior], settings: Mapping[str, Any]) -> Findings:
        return MetaFindings(study=self, posteriors=posteriors, fit_settings=settings)


def meta_analysis(
    data: Any,
    estimate: str | None = None,
    standard_error: str | None = None,
    label: str | None = None,
    *,
    order: str | None = None,
    size: str | None = None,
    scale: str | None = None,
    unit: float = 1.0,
    effect: str | None = None,
    spread: str | None = None,
    null: str | None = None,
    prior: Mapping[str, float] | None = None,
    rope: tuple[float, float] | None = None,
    bias: str | None = None,
    missing: str = "refuse",
) -> MetaStudy:
    """Ask what the estimates of several trials say together.

    Parameters
    ----------
    data
        DataFrame, or mapping of columns; one row a trial.
    estimate, standard_error
        The columns of estimates, on a scale where they are about normal, and of their standard
        errors; by default columns of these names. `mw.effect_sizes` makes them of counts, means
        and correlations.
    label
        Names of the trials; by default a column `label`, `trial`, `study`, `mill` or `name`.
    order
        A column, such as a year, by which trials came in; by default they did row by row.
    size
        A column of sizes, for a check of the standard errors.
    scale
        `difference`, `standardised difference`, `log odds ratio`, `log risk ratio`, `fisher z`
        or `logit`; results are then also shown as odds ratios, correlations and so on.
    unit
        How large a large effect is, for the usual priors. 1 suits standardised differences and
        log odds ratios.
    effect, spread
        Priors of the common effect, and of the sd between the trials' own effects, in the model
        language. By default `normal(0, unit)`, and `half_normal(0.5 unit)` (Röver et al. 2021).
        One-sided with `normal(0, 1, low=0)`.
    null
        What no effect means: by default exactly 0; or a narrow prior such as `normal(0, 0.05)`.
    prior
        Prior probabilities of the models `random`, `common`, `null random` and `null common`;
        by default equal. A model that is not named has none.
    rope
        Region of practical equivalence of the effect.
    bias
        The direction of results that were hoped for, `positive` or `negative`: the answer then
        says whether trials stayed unpublished, and what the effect is if they did. By default not
        asked. `findings.publication_bias` asks with other models than the usual ones.
    missing
        `refuse` rows with a gap, or `drop` them.

    Returns
    -------
    The study; nothing is computed yet.

    Raises
    ------
    ArgumentError
        For columns or settings that make no sense.
    DataError
        For standard errors that are none, estimates on a bounded scale, labels given twice.
    """
    table = trial_table(data, estimate, standard_error, label, order, size, scale, missing)
    settings = {
        "shown": table.shown,
        "estimate": table.estimate,
        "standard_error": table.error,
        "label": table.label,
        "order": table.order,
        "size": table.size,
        "scale": scale,
        "unit": unit,
        "effect": effect,
        "spread": spread,
        "null": null,
        "prior": None if prior is None else dict(prior),
        "rope": rope,
        "bias": bias,
    }
    return build(table, settings)


def build(table: TrialData, given: Mapping[str, Any]) -> MetaStudy:
    """Return the study of trials under settings, all checked."""
    check_number("unit", given["unit"])
    if given["unit"] <= 0:
        raise ArgumentError(f"`unit` must be above 0, not {given['unit']!r}.")
    usual = usual_priors(float(given["unit"]))
    # A stored study keeps the priors that it had, also where the usual ones have changed.
    chosen = given.get("usual", [name for name in usual if given[name] is None])
    settings = {**given, **{k: given[k] or text for k, text in usual.items()}, "usual": chosen}
    check_priors(settings)
    shares = prior_shares(tuple(KINDS), settings["prior"])
    if settings["rope"] is not None:
        region_ends(settings["rope"])
    if settings.get("bias") is not None:
        check_direction("bias", settings["bias"])
        check_effects(shares)
    if chosen and given["unit"] == 1.0:
        _refuse_other_unit(table)
    models: dict[str, Model] = {}
    for name, kind in KINDS.items():
        model = meta_model(table, kind, settings)
        if model is not None:
            models[name] = model
    return MetaStudy(
        question=f"What do the {len(table.frame)} trials say together about `{table.shown}`?"
        if len(table.frame) > 1
        else f"What does the one trial say about `{table.shown}`?",
        data=table.frame,
        models=models,
        choices=_choices(settings),
        remarks=table.remarks,
        settings=settings,
        table=table,
    )


def _refuse_other_unit(table: TrialData) -> None:
    """Refuse the usual priors where estimates are on quite another scale than they are for."""
    trials = table.trials
    largest = float(np.max(np.abs(trials.estimates)))
    if np.median(np.abs(trials.estimates)) > _FAR or trials.scale > _FAR or largest < _NEAR:
        raise ArgumentError(
            f"The usual priors are for effects around 1 in size; these are up to {largest:.3g}. "
            f"Say how large a large effect is in this unit, {setting('unit')}, or give both "
            f"priors: {setting('effect')} and {setting('spread')}."
        )


def _choices(settings: Mapping[str, Any]) -> tuple[str, ...]:
    unit, usual = float(settings["unit"]), settings["usual"]
    lines = []
    if "effect" in usual:
        lines.append(
            f"Effect: {settings['effect']}, a large effect being {unit:g} (`unit`): effects "
            "beyond two of them are hardly ever seen."
        )
    else:
        lines.append(f"Effect: {settings['effect']}, as given by you.")
    if "spread" in usual:
        lines.append(
            f"Spread, the sd between the trials' own effects: {settings['spread']} (Röver et al. "
            "2021, for standardised differences and log odds ratios)."
        )
    else:
        lines.append(f"Spread: {settings['spread']}, as given by you.")
    null = settings["null"]
    if null is None:
        lines.append(
            "No effect means exactly 0. The model `null common` (no effect, the same in all "
            "trials) has no unknown: it is weighed, and not fitted."
        )
    else:
        lines.append(f"No effect means {null}.")
    stated = settings["prior"]
    told = (
        "equal"
        if stated is None
        else ", ".join(f"{name} {value:g}" for name, value in stated.items())
    )
    lines.append(f"Prior probabilities of the models: {told}.")
    return tuple(lines)


def rebuild(
    data: pd.DataFrame, settings: Mapping[str, Any], remarks: tuple[str, ...]
) -> MetaStudy:
    """Return a stored study."""
    rope = settings["rope"]
    table = TrialData(
        frame=data,
        shown=settings["shown"],
        estimate=settings["estimate"],
        error=settings["standard_error"],
        label=settings["label"],
        order=settings["order"],
        size=settings["size"],
        remarks=remarks,
    )
    check_trials(table, settings["scale"])
    return build(table, {**settings, "rope": None if rope is None else tuple(rope)})
