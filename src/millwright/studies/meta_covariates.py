"""What the effects of trials lean on: slopes, subgroups, and the effect at stated covariates."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from millwright.draws.intervals import interval, kind_words
from millwright.errors import ArgumentError
from millwright.evidence.bayes_factor import factor_words
from millwright.sampling.streams import Stream, generator_of
from millwright.studies.design import Design
from millwright.studies.meta_linear import LinearTrials
from millwright.studies.meta_models import KINDS
from millwright.studies.reading import label_text, table_of
from millwright.wording import setting

if TYPE_CHECKING:
    from millwright.studies.meta_findings import MetaFindings
    from millwright.studies.meta_study import MetaStudy

__all__ = [
    "effect_along",
    "effect_at",
    "slope_draws",
    "slope_table",
    "subgroup_table",
    "term_factors",
]


def _design(study: MetaStudy) -> Design:
    if study.table.design is None:
        raise ArgumentError(
            f"The study has no covariates: name them, {setting('covariates', '~ heat')}."
        )
    return study.table.design


def slope_draws(found: MetaFindings) -> dict[str, np.ndarray]:
    """Return draws of the change of the effect for 1 more of each covariate, (chains, draws)."""
    design = found.study.table.design
    if design is None:
        return {}
    slopes = found.posterior.draws.get("slope")
    return {
        f"slope of {name}": slopes[..., at] / design.spread[at]
        for at, name in enumerate(design.names)
    }


def slope_table(found: MetaFindings) -> pd.DataFrame:
    """See `MetaFindings.covariates`."""
    design, study = _design(found.study), found.study
    factors = term_factors(study)
    words = kind_words(found.kind, found.level)
    rows = {}
    for at, values in enumerate(slope_draws(found).values()):
        name = design.names[at]
        low, high = interval(values.reshape(-1), found.level, found.kind)
        term = next(term for term, columns in design.terms.items() if name in columns)
        told = [float(np.median(values)), float(low), float(high), float(np.mean(values > 0))]
        rows[name] = [*told, term, factors[term], factor_words(factors[term], "it")]
    columns = ["change per 1, median", f"{words}, from", f"{words}, to", "probability above 0"]
    columns += ["term", "log BF, term", "in words"]
    return pd.DataFrame.from_dict(rows, orient="index", columns=columns).rename_axis("covariate")


def term_factors(study: MetaStudy) -> dict[str, float]:
    """Return the log Bayes factor of each term of the covariates over leaving it out.

    Averaged over the models with and without effect and spread, by their prior probabilities.
    """
    design, trials = _design(study), study.table.trials
    assert isinstance(trials, LinearTrials)
    whole = _log_average(study, study.log_evidences)
    found = {}
    for term, columns in design.terms.items():
        kept = np.array([name not in columns for name in design.names])
        rest = study.quadratures(trials.with_columns(kept))
        logs = {kind: one.log_evidence for kind, one in rest.items()}
        found[term] = whole - _log_average(study, logs)
    return found


def _log_average(study: MetaStudy, logs: Mapping[str, float]) -> float:
    with np.errstate(divide="ignore"):
        terms = [logs[kind] + np.log(study.model_priors[kind]) for kind in KINDS]
    return float(np.logaddexp.reduce(terms))


def effect_at(found: MetaFindings, rows: Any) -> pd.DataFrame:
    """See `MetaFindings.effect_at`."""
    design = _design(found.study)
    if isinstance(rows, Mapping):
        size = max((np.size(value) for value in rows.values()), default=1)
        rows = {k: [one] * size if np.ndim(one) == 0 else one for k, one in rows.items()}
    frame = table_of(rows)
    values = (design.rows(frame) - design.middle) / design.spread
    told = _told(found, values)
    places = frame[list(design.formula.columns)]
    return pd.concat([places, told], axis=1)


def _told(found: MetaFindings, columns: np.ndarray) -> pd.DataFrame:
    """Return the effect, and a next trial's own, at standardised covariates (rows, slopes)."""
    draws = found.posterior.draws
    effect, spread = (draws.get(name).reshape(-1) for name in ("effect", "spread"))
    slopes = draws.get("slope").reshape(len(effect), -1)
    generator = generator_of(found.posterior.record.seed, Stream.PREDICTION, 1)
    noise = spread * generator.standard_normal(len(effect))
    words = kind_words(found.kind, found.level)
    rows = []
    for place in columns:
        values = effect + slopes @ place
        row = {"effect, median": float(np.median(values))}
        for name, some in (("effect", values), ("next trial", values + noise)):
            low, high = interval(some, found.level, found.kind)
            row |= {f"{name}, {words}, from": float(low), f"{name}, {words}, to": float(high)}
        rows.append({**row, "probability above 0": float(np.mean(values > 0))})
    return pd.DataFrame(rows)


def subgroup_table(found: MetaFindings, factor: str | None) -> pd.DataFrame:
    """See `MetaFindings.subgroups`."""
    design, table = _design(found.study), found.study.table
    names = list(design.levels)
    if not names:
        raise ArgumentError("No covariate has labels; `effect_at` tells the effect at numbers.")
    factor = names[0] if factor is None and len(names) == 1 else factor
    if factor not in names:
        raise ArgumentError(f"`factor` is one of {', '.join(names)}, not {factor!r}.")
    labels = design.levels[factor]
    told = effect_along(found, factor, labels)
    texts = [label_text(value) for value in table.frame[factor]]
    told.insert(0, "estimates", [texts.count(label) for label in labels])
    return told


def effect_along(found: MetaFindings, covariate: str, values: Sequence[Any]) -> pd.DataFrame:
    """Summarise the effect over values of one covariate, the others as they are in the trials.

    Returns
    -------
    One row a value; columns as of `MetaFindings.effect_at`.
    """
    design = _design(found.study)
    frame = found.study.table.frame[list(design.formula.columns)]
    places = []
    for value in values:
        columns = design.rows(frame.assign(**{covariate: value}))
        places.append(((columns - design.middle) / design.spread).mean(axis=0))
    return _told(found, np.array(places)).set_index(pd.Index(values, name=covariate))
