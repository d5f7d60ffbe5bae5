"""The Bayes factor of a statement about one model, by the way that suits it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from millwright.diagnostics.measures import measure
from millwright.diagnostics.verdict import Verdict
from millwright.errors import ArgumentError, MillwrightError, ModelError
from millwright.evidence.bayes_factor import BayesFactor
from millwright.evidence.of_fit import evidence_of_fit, refuse_improper_priors
from millwright.evidence.points import (
    FARTHEST,
    Point,
    far_away,
    log_likelihood_at,
    point_factor,
    point_of,
)
from millwright.evidence.regions import region_factor
from millwright.fitting.fit import Fit
from millwright.fitting.target import target_of
from millwright.posterior.refits import fitted_with
from millwright.posterior.verdict import verdict_of
from millwright.sampling.streams import Stream, generator_of

__all__ = ["bayes_factor_of"]

_TRIED = 400


def bayes_factor_of(fit: Fit, verdict: Verdict, statement: str) -> BayesFactor:
    """Return the Bayes factor of a statement; see `Posterior.bayes_factor`."""
    if not isinstance(statement, str):
        raise ArgumentError(f"A statement is a text such as 'drying < 0', not {statement!r}.")
    _refuse_cut_priors(fit)
    point = point_of(fit.draws, statement)
    if point is None or not _density_ratio(fit, point):
        refuse_improper_priors(fit.draws, "the Bayes factor")
    if point is None:
        found = region_factor(fit.draws, statement, fit.record.seed)
    elif _density_ratio(fit, point):
        found = point_factor(fit.draws, point)
    else:
        return _by_null_model(fit, verdict, point)
    if verdict.good:
        return found
    reasons = (f"The verdict on the draws: {verdict.headline}", *found.reasons)
    return replace(found, trusted=False, reasons=reasons)


def _refuse_cut_priors(fit: Fit) -> None:
    """Refuse priors whose mass is cut by a term: what is left of it is not what is written."""
    binding = fit.draws.binding
    if not binding.specification.log_density_terms:
        return
    target = target_of(binding)
    if target.prior_draws is None:
        return
    generator = generator_of(fit.record.seed, Stream.ODDS)
    _, likelihood = target.split(target.prior_draws(generator, _TRIED))
    cut = int((~np.isfinite(likelihood)).sum())
    if cut:
        raise ModelError(
            f"At {cut} of {_TRIED} draws of the priors a term of the log density is not finite: "
            "it cuts the priors, so that the probability of a statement before the data is not "
            "that of the priors as written. Give priors that lie where the term is finite."
        )


def _density_ratio(fit: Fit, point: Point) -> bool:
    """Whether a point is weighed by two densities there; constants of other priors cancel then."""
    if fit.draws.binding.program.by_name[point.name].improper or not np.isfinite(point.free):
        return False
    return far_away(fit.draws, point) <= FARTHEST


def _by_null_model(fit: Fit, verdict: Verdict, point: Point) -> BayesFactor:
    """Fit the model with the unknown held at the point, and compare evidences."""
    where = (
        "lies at an edge of its support"
        if not np.isfinite(point.free)
        else f"is more than {FARTHEST:g} standard deviations from the posterior mean"
    )
    if not point.single:
        raise ModelError(
            f"`{point.statement}` {where}, where no density can be estimated from draws. Write "
            "the model without it, fit it, and compare both by mw.bayes_factors(...)."
        )
    if fit.draws.binding.dimension == 1 and np.isfinite(point.free):
        return _by_likelihood(fit, verdict, point)
    try:
        null = fitted_with(fit, {point.name: point.value})
        judged = verdict_of(null, measure(null.draws.single()))
        held = evidence_of_fit(null, judged)
    except MillwrightError as error:
        raise ModelError(
            f"`{point.statement}` {where}, so the model with `{point.name}` held there was to be "
            f"fitted, and that failed: {str(error).splitlines()[0].rstrip('.')}. Write the null "
            "model by hand (without the terms that this removes), fit it, and compare both by "
            "mw.bayes_factors(...)."
        ) from error
    free = evidence_of_fit(fit, verdict)
    doubts = [
        f"The evidence {which}: {one.reasons[0]}"
        for which, one in (("of the model", free), ("of the null model", held))
        if not one.trusted
    ]
    return BayesFactor(
        statement=point.statement,
        against=f"not ({point.statement})",
        log_value=held.log_value - free.log_value,
        standard_error=float(np.hypot(held.standard_error, free.standard_error)),
        method="two evidences: the point " + where + ", so the null model was fitted too",
        trusted=not doubts,
        reasons=tuple(doubts),
    )


def _by_likelihood(fit: Fit, verdict: Verdict, point: Point) -> BayesFactor:
    """Compare the likelihood at the point, where nothing is left unknown, with the evidence."""
    free = evidence_of_fit(fit, verdict)
    return BayesFactor(
        statement=point.statement,
        against=f"not ({point.statement})",
        log_value=log_likelihood_at(fit.draws, point) - free.log_value,
        standard_error=free.standard_error,
        method="the likelihood at the point, over the evidence",
        trusted=free.trusted,
        reasons=() if free.trusted else (f"The evidence: {free.reasons[0]}",),
    )
