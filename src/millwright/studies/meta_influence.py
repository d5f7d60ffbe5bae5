"""What the answer of a meta-analysis owes to each trial, to their order, and to the priors."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from millwright.checks import check_list, check_positive
from millwright.draws.intervals import kind_words
from millwright.errors import ArgumentError
from millwright.evidence.bayes_factor import factor_words
from millwright.language.printing import number_text
from millwright.studies.meta_evidence import inclusion_of
from millwright.studies.meta_models import KINDS
from millwright.studies.meta_posterior import MetaPosterior
from millwright.studies.meta_priors import check_priors

if TYPE_CHECKING:
    from millwright.studies.meta_findings import MetaFindings

__all__ = ["by_width", "left_out", "path", "under_priors"]

_WIDTHS = (0.1, 0.2, 0.35, 0.5, 0.7, 1.0, 1.5, 2.0, 3.0)
_WITH_EFFECT = {name for name, kind in KINDS.items() if kind.effect}

Models = Mapping[str, MetaPosterior]


def left_out(found: MetaFindings) -> pd.DataFrame:
    """See `MetaFindings.leave_one_out`."""
    if len(found.study.table.units) < 2:
        raise ArgumentError("There is one trial: without it nothing is left.")
    return _table(found, {"none left out": found.study.exact, **found.study.without}, "left out")


def path(found: MetaFindings) -> pd.DataFrame:
    """See `MetaFindings.path`."""
    table, study = found.study.table, found.study
    order = table.ordered
    rows: dict[str, Models] = {}
    for n in range(1, len(order)):
        some = np.sort(np.concatenate([table.units[name] for name in order[:n]]))
        rows[order[n - 1]] = study.quadratures(table.trials.only(some))
    rows[order[-1]] = study.exact
    return _table(found, rows, "up to trial")


def under_priors(found: MetaFindings, priors: Mapping[str, Mapping[str, str]]) -> pd.DataFrame:
    """See `MetaFindings.under_priors`."""
    study = found.study
    rows: dict[str, Models] = {"as given": study.exact}
    for name, given in priors.items():
        wrong = set(given) - {"effect", "spread"}
        if wrong:
            raise ArgumentError(
                f"`priors` of {name!r} name `{sorted(wrong)[0]}`: there are effect and spread."
            )
        check_priors({**study.settings, **given})
        rows[str(name)] = study.quadratures(study.table.trials, **given)
    return _table(found, rows, "priors")


def by_width(found: MetaFindings, widths: Sequence[float] | None) -> pd.DataFrame:
    """See `MetaFindings.effect_factors_by_width`."""
    unit = float(found.study.settings["unit"])
    rows = []
    asked = [unit * one for one in _WIDTHS] if widths is None else check_list("widths", widths)
    for width in asked:
        check_positive("widths", width)
        text = f"normal(0, {number_text(float(width))}"
        rows.append([_factor(found, f"{text}{end}") for end in (")", ", low=0)", ", high=0)")])
    columns = ["log BF, effect", "log BF, positive", "log BF, negative"]
    return pd.DataFrame(rows, index=pd.Index(asked, name="width"), columns=columns)


def _factor(found: MetaFindings, effect: str) -> float:
    """Return the log Bayes factor of an effect under another prior of it."""
    logs = {
        kind: found.study.quadrature(kind, effect=effect).log_evidence
        if of.effect
        else found.log_evidences[kind]
        for kind, of in KINDS.items()
    }
    return float(inclusion_of(_WITH_EFFECT, logs, found.study.model_priors))


def _table(found: MetaFindings, rows: Mapping[str, Models], name: str) -> pd.DataFrame:
    """Return effect, spread and evidence of an effect by each set of models."""
    words = kind_words(found.kind, found.level)
    columns = ["effect, median", f"effect, {words}, from", f"effect, {words}, to"]
    columns += ["spread, median", "log BF, effect"]
    told = {key: _told(found, models) for key, models in rows.items()}
    frame = pd.DataFrame.from_dict(told, orient="index", columns=columns)
    frame["in words"] = [factor_words(value, "an effect") for value in frame["log BF, effect"]]
    return frame.rename_axis(name)


def _told(found: MetaFindings, models: Models) -> tuple[float, ...]:
    effect, spread = models["random"].of_effect, models["random"].of_spread
    logs = {kind: one.log_evidence for kind, one in models.items()}
    return (
        effect.median,
        *effect.interval(found.level, found.kind),
        spread.median,
        float(inclusion_of(_WITH_EFFECT, logs, found.study.model_priors)),
    )
