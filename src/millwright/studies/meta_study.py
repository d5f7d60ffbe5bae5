"""The study of several trials: what their estimates say together."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, ClassVar

import numpy as np
import pandas as pd

from millwright.checks import check_mapping
from millwright.draws.decision import region_ends
from millwright.draws.known_priors import KnownPrior
from millwright.errors import ArgumentError
from millwright.models.model import Model
from millwright.posterior.posterior import Posterior
from millwright.studies.checks import check_number
from millwright.studies.design import read_formula
from millwright.studies.exact import exact_fit
from millwright.studies.findings import Findings
from millwright.studies.meta_bias_weighing import check_direction, check_effects
from millwright.studies.meta_data import TrialData, made_table, trial_table
from millwright.studies.meta_evidence import prior_shares
from millwright.studies.meta_findings import MetaFindings
from millwright.studies.meta_models import (
    KINDS,
    meta_model,
)
from millwright.studies.meta_posterior import MetaPosterior, Trials
from millwright.studies.meta_priors import check_priors, number_prior, usual_priors
from millwright.studies.study import Fitting, Study
from millwright.wording import setting

__all__ = ["MetaStudy", "meta_analysis"]

_DRAWS = 2500
_ADDED = dict.fromkeys(("bias", "covariates", "slope", "per", "correlation"))
"""Settings that stored studies may lack, since they were made before these came."""
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
        trials, labels, number = self.table.trials, self.table.labels, len(self.table.units)
        low, high = (int(f(trials.estimates)) for f in (np.argmin, np.argmax))
        count = f"{number} trial{'s' * (number != 1)}"
        if self.table.per is not None:
            count += f" with {len(trials)} estimates"
        spread = (
            f"estimates from {trials.estimates[low]:.4g} (`{labels[low]}`) to "
            f"{trials.estimates[high]:.4g} (`{labels[high]}`), standard errors from "
            f"{trials.errors.min():.3g} to {trials.errors.max():.3g}"
        )
        return (f"{count}: {spread}.",)

    @property
    def first_priors(self) -> tuple[str, ...]:
        """The priors of effect, spread and slopes; what belongs to single trials follows them."""
        return ("effect", "spread", *(("slope",) if self.table.design is not None else ()))

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
    def log_evidences(self) -> dict[str, float]:
        """Log evidence of each model, by name."""
        return {name: one.log_evidence for name, one in self.exact.items()}

    @cached_property
    def without(self) -> dict[str, dict[str, MetaPosterior]]:
        """The same without each trial, by its name."""
        trials = self.table.trials
        found = {}
        for label, at in self.table.units.items():
            found[label] = self.quadratures(trials.only(np.delete(np.arange(len(trials)), at)))
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
    covariates: str | None = None,
    slope: str | None = None,
    per: str | None = None,
    correlation: float | None = None,
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
    covariates
        What the trials' effects may lean on, as a formula: `~ heat + grain` (meta-regression). The
        effect is then that of a trial with average covariates.
    slope
        Normal prior of the slopes, each for one sd of its covariate; by default
        `normal(0, 0.5 unit)`.
    per
        A column that says which trial an estimate is of, where trials have several.
    correlation
        Of the errors of estimates of one trial, from 0 to below 1; to be given with `per`.
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
    given = {
        "estimate": estimate,
        "standard_error": standard_error,
        "label": label,
        "order": order,
        "size": size,
        "scale": scale,
        "unit": unit,
        "effect": effect,
        "spread": spread,
        "covariates": covariates,
        "slope": slope,
        "per": per,
        "correlation": correlation,
        "null": null,
        "prior": None if prior is None else check_mapping("prior", prior),
        "rope": rope,
        "bias": bias,
    }
    settings = _complete(given)
    table = trial_table(data, settings, missing)
    columns = {
        "shown": table.shown,
        "estimate": table.estimate,
        "standard_error": table.error,
        "label": table.label,
        "order": table.order,
        "size": table.size,
        "per": table.per,
    }
    return build(table, {**settings, **columns})


def _complete(given: Mapping[str, Any]) -> dict[str, Any]:
    """Return settings with their usual priors, checked as far as they are no columns."""
    check_number("unit", given["unit"])
    if given["unit"] <= 0:
        raise ArgumentError(f"`unit` must be above 0, not {given['unit']!r}.")
    usual = usual_priors(float(given["unit"]))
    if given["covariates"] is None:
        if given["slope"] is not None:
            raise ArgumentError(
                "A prior of slopes goes with covariates: "
                f"{setting('covariates', '~ heat')}, or leave {setting('slope')} out."
            )
        usual.pop("slope")
    # A stored study keeps the priors that it had, also where the usual ones have changed.
    chosen = given.get("usual", [name for name in usual if given[name] is None])
    settings = {**given, **{k: given[k] or text for k, text in usual.items()}, "usual": chosen}
    check_priors(settings)
    _check_several(settings)
    return settings


def _check_several(settings: Mapping[str, Any]) -> None:
    """Refuse settings of several estimates a trial that are no such, or not offered."""
    correlation = settings["correlation"]
    if (settings["per"] is None) != (correlation is None):
        raise ArgumentError(
            f"{setting('per')}, the column of trials with several estimates, and "
            f"{setting('correlation')}, that of their errors, go together: errors of estimates "
            "of one trial are hardly ever independent; 0.5 is a usual guess, try others beside it."
        )
    if correlation is not None:
        check_number("correlation", correlation)
        if not 0 <= correlation < 1:
            raise ArgumentError(f"`correlation` is from 0 to below 1, not {correlation!r}.")
    plain = settings["per"] is None and settings["covariates"] is None
    if settings.get("bias") is not None and not plain:
        raise ArgumentError(
            f"Publication bias is asked of one estimate a trial without covariates: leave "
            f"{setting('bias')} out, or ask it in a study of its own."
        )


def build(table: TrialData, settings: Mapping[str, Any]) -> MetaStudy:
    """Return the study of trials under complete settings, all checked."""
    shares = prior_shares(tuple(KINDS), settings["prior"])
    if settings["rope"] is not None:
        region_ends(settings["rope"])
    if settings.get("bias") is not None:
        check_direction("bias", settings["bias"])
        check_effects(shares)
    if settings["usual"] and settings["unit"] == 1.0:
        _refuse_other_unit(table)
    models: dict[str, Model] = {}
    for name, kind in KINDS.items():
        model = meta_model(table, kind, settings)
        if model is not None:
            models[name] = model
    return MetaStudy(
        question=f"What do the {len(table.units)} trials say together about `{table.shown}`?"
        if len(table.units) > 1
        else f"What does the one trial say about `{table.shown}`?",
        data=table.frame,
        models=models,
        choices=_choices(settings, table),
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


def _choices(settings: Mapping[str, Any], table: TrialData) -> tuple[str, ...]:
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
            "No effect means exactly 0."
            + (
                " The model `null common` (no effect, the same in all trials) has no unknown: it "
                "is weighed, and not fitted."
            )
            * (table.design is None and not table.correlation)
        )
    else:
        lines.append(f"No effect means {null}.")
    lines += _further_choices(settings, table)
    stated = settings["prior"]
    told = (
        "equal"
        if stated is None
        else ", ".join(f"{name} {value:g}" for name, value in stated.items())
    )
    lines.append(f"Prior probabilities of the models: {told}.")
    return tuple(lines)


def _further_choices(settings: Mapping[str, Any], table: TrialData) -> list[str]:
    """Return what was chosen for covariates, and for several estimates a trial."""
    lines = []
    if table.design is not None:
        own = "slope" not in settings["usual"]
        lines.append(
            f"Slopes, each for one sd of its covariate: {settings['slope']}"
            + (", as given by you." if own else ", half a large effect.")
            + " The effect is that of a trial with average covariates."
        )
        lines += [
            f"`{column}`: reference {labels[0]}, of {', '.join(labels)}."
            for column, labels in table.design.levels.items()
        ]
    if table.per is not None:
        lines.append(
            f"Estimates of one trial (`{table.per}`) share its own effect, and their errors "
            f"correlate by {table.correlation:g}, as you said."
        )
    return lines


def rebuild(
    data: pd.DataFrame, settings: Mapping[str, Any], remarks: tuple[str, ...]
) -> MetaStudy:
    """Return a stored study."""
    rope = settings["rope"]
    every = {**_ADDED, **settings, "rope": None if rope is None else tuple(rope)}
    text = every["covariates"]
    formula = None if text is None else read_formula(text, one_sided=True)
    return build(made_table(data, every, formula, remarks), every)
