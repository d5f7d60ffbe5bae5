"""The answer of a meta-analysis in sentences, and what is to be known of its trials."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from millwright.diagnostics.finding import Finding
from millwright.draws.intervals import kind_words
from millwright.draws.numbers import chance_text, decimals_of, fixed
from millwright.evidence.bayes_factor import strength, times_text
from millwright.studies.meta_data import SCALES
from millwright.studies.meta_evidence import weighed_words
from millwright.studies.meta_posterior import range_of
from millwright.wording import visible

if TYPE_CHECKING:
    from millwright.studies.meta_findings import MetaFindings

__all__ = ["cautions", "sentences"]

_DIGITS = 10_000
_OUTSIDE = 5e-4
_MOVED = 0.1
_TRIALS_PER_SLOPE = 5
_CLAIMS = {"effect": "an effect", "spread": "spread between trials"}


def sentences(found: MetaFindings) -> tuple[str, ...]:
    """Return the answer."""
    up = 1 - found.densities["effect"].below(0.0)
    plain = "" if found.bias is None else ", without regard to publication bias"
    lines = [
        f"Effect, trials allowed to differ{plain}: {found.size('effect')}; "
        f"{'positive' if up >= 0.5 else 'negative'} with probability "
        f"{chance_text(max(up, 1 - up), _DIGITS)}{_one_way(found)}.",
        *_natural(found),
        *(weighed_words(claim, found.inclusions[term]) for term, claim in _CLAIMS.items()),
        f"Spread between trials (sd of their own effects): {found.size('spread')}; share of the "
        f"variance (I2) {found.size('I2')}.",
        f"A next trial's own effect: {found.size('next trial')}.",
    ]
    lines += _covariates(found)
    if len(found.study.table.units) > 1:
        lines.append(_influence(found))
    if found.bias is not None:
        return (*lines, *found.bias.sentences)
    lines.append(
        "Not asked: whether trials without a clear result stayed unpublished, which would make "
        "the effect seem larger than it is; "
        "`bias`, the direction that was hoped for, asks it."
    )
    return tuple(lines)


def _one_way(found: MetaFindings) -> str:
    low, high = range_of(found.study.priors["effect"])
    return " (its prior allows no other sign)" if low >= 0 or high <= 0 else ""


def _natural(found: MetaFindings) -> tuple[str, ...]:
    scale = found.study.settings["scale"]
    if not scale or SCALES[scale] is None:
        return ()
    table = found.natural()
    middle, low, high = (float(value) for value in table.iloc[0])
    what = table.columns[0].split(",")[0]
    words = kind_words(found.kind, found.level)
    return (f"As {what}: {middle:.3g} ({words} {low:.3g} to {high:.3g}).",)


def _covariates(found: MetaFindings) -> list[str]:
    """Say how the effect changes with each covariate."""
    if found.study.table.design is None:
        return []
    lines = []
    for name, row in found.covariates().iterrows():
        values = found.numbers[f"slope of {name}"]
        up = float(row["probability above 0"])
        way = "upwards" if up >= 0.5 else "downwards"
        lines.append(
            f"{_step(found, str(name))} the effect changes by "
            f"{found.size(f'slope of {name}')}; {way} with probability "
            f"{chance_text(max(up, 1 - up), values.size)}. {_term(row)}"
        )
    return lines


def _step(found: MetaFindings, name: str) -> str:
    """Say what changes: a number by 1, or a label in place of the reference."""
    design = found.study.table.design
    labels = None if design is None else design.labels_of(name)
    if labels is not None:
        return f"With `{visible(name)}` in place of `{visible(labels[1])}`"
    return f"For 1 more of `{visible(name)}`"


def _term(row: pd.Series) -> str:
    """Say how much the data speak for a term of the covariates."""
    log = float(row["log BF, term"])
    one, other = ("it", "none of it") if log >= 0 else ("none of it", "it")
    return (
        f"The data are {times_text(log)} times as probable under a model with {one} as under "
        f"one with {other} ({strength(log)})."
    )


def _influence(found: MetaFindings) -> str:
    """Say which trial the effect rests on most."""
    study = found.study
    middles = {label: models["random"].of_effect.median for label, models in study.without.items()}
    whole = found.densities["effect"]
    most = max(middles, key=lambda label: abs(middles[label] - whole.median))
    low, high = whole.interval(found.level, found.kind)
    # The decimals of the table.
    places = decimals_of(float(found.numbers["effect"].std(ddof=1)))
    told = f"Without `{most}` the median effect would be {fixed(middles[most], places)}"
    if abs(middles[most] - whole.median) < _MOVED * (high - low):
        return f"{told}: no single trial moves it by a tenth of its interval."
    return f"{told}, in place of {fixed(whole.median, places)}: it rests on that trial most."


def cautions(found: MetaFindings) -> tuple[Finding, ...]:
    """Return what speaks against the models for these trials."""
    return (*_few_trials(found), *_far_from_prior(found), *_loose_slopes(found))


def _loose_slopes(found: MetaFindings) -> tuple[Finding, ...]:
    """Say where the trials cannot tell the slopes of covariates apart."""
    design, count = found.study.table.design, len(found.study.table.units)
    if design is None:
        return ()
    slopes = len(design.names)
    if np.linalg.matrix_rank(design.standardised) < slopes:
        what = "Some covariates say the same as others together"
    elif count < _TRIALS_PER_SLOPE * slopes:
        what = f"There are {count} trials for {slopes} slope{'s' * (slopes > 1)}"
    else:
        return ()
    return (
        Finding(
            "caution",
            f"{what}: the slopes rest on their prior, {found.study.settings['slope']}, to a good "
            "part.",
            "Ask fewer covariates, those that were planned before the trials were seen.",
            of_data=True,
        ),
    )


def _far_from_prior(found: MetaFindings) -> tuple[Finding, ...]:
    """Say where the trials lie outside all that the prior of the effect allows."""
    study = found.study
    low, high = study.priors["effect"].quantiles(_OUTSIDE, 1 - _OUTSIDE)
    mean, variance, _ = study.table.trials.given(np.zeros(1))
    reach = 2 * float(np.sqrt(variance[0]))
    if low <= mean[0] + reach and mean[0] - reach <= high:
        return ()
    return (
        Finding(
            "caution",
            f"The trials lie around {mean[0]:.3g}, where the prior of the effect, "
            f"{study.settings['effect']}, has next to nothing: the answer is held by the prior.",
            "State a prior that allows what the trials show, or say why they must be wrong.",
            of_data=True,
        ),
    )


def _few_trials(found: MetaFindings) -> tuple[Finding, ...]:
    count = len(found.study.table.units)
    if count > 2:
        return ()
    what = (
        "Two trials:"
        if count == 2
        else "One trial alone: its effect and the common one cannot be told apart, and"
    )
    return (
        Finding(
            "caution",
            f"{what} the spread between trials rests on its prior nearly alone.",
            "Read the spread, the prediction and the evidence for it as statements of the "
            "prior; see the figure of priors and posteriors.",
            of_data=True,
        ),
    )
