"""Draws of the numbers that a meta-analysis asks for, of one model and over all of them."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from millwright.models.averaged import averaged_posterior
from millwright.posterior.posterior import Posterior
from millwright.sampling.streams import Stream, generator_of
from millwright.studies.meta_covariates import slope_draws
from millwright.studies.meta_models import KINDS

if TYPE_CHECKING:
    from millwright.studies.meta_findings import MetaFindings

__all__ = ["AVERAGED_EFFECT", "AVERAGED_SPREAD", "CORRECTED", "average", "numbers_of"]

AVERAGED_EFFECT = "effect, averaged, 0 if none"
AVERAGED_SPREAD = "spread, averaged, 0 if none"
CORRECTED = "effect, bias allowed for"


def numbers_of(found: MetaFindings) -> dict[str, np.ndarray]:
    """Return draws of every number of the table, (chains, draws) each."""
    draws, seed = found.posterior.draws, found.posterior.record.seed
    effect, spread = draws.get("effect"), draws.get("spread")
    generator = generator_of(seed, Stream.PREDICTION)
    over_all = _over_models(found)
    numbers = {
        "effect": effect,
        "spread": spread,
        "spread squared": spread**2,
        "I2": _share_between(found, spread),
        "next trial": effect + spread * generator.standard_normal(effect.shape),
        "effect, common to all": found.posteriors["common"].draws.get("effect"),
        AVERAGED_EFFECT: over_all["effect"],
        AVERAGED_SPREAD: over_all["spread"],
        **slope_draws(found),
    }
    if found.bias is not None:
        shares = generator_of(seed, Stream.BIAS, 1).random(effect.shape)
        numbers[CORRECTED] = found.bias.corrected.quantile(shares)
    return numbers


def average(found: MetaFindings) -> Posterior:
    """See `MetaFindings.average`."""
    drawn = _over_models(found)
    generator = generator_of(found.posterior.record.seed, Stream.AVERAGE, 1)
    noise = generator.standard_normal(drawn["effect"].shape)
    return averaged_posterior(
        "Effect and spread of trials, averaged over models",
        "0 where a model has no effect, or no spread; next_trial: a next trial's own effect.",
        {**drawn, "next_trial": drawn["effect"] + drawn["spread"] * noise},
        "draws of the models, of each a share by its probability",
        found.posterior.record.seed,
    )


def _share_between(found: MetaFindings, spread: np.ndarray) -> np.ndarray:
    """Return I2, the share of variance between trials (Higgins and Thompson 2002, eq. 9)."""
    weights = 1 / found.study.table.trials.errors**2
    if len(weights) == 1:
        typical = 1 / weights[0]
    else:
        total = weights.sum()
        typical = total * (len(weights) - 1) / (total**2 - np.sum(weights**2))
    return np.asarray(spread**2 / (spread**2 + typical))


def _over_models(found: MetaFindings) -> dict[str, np.ndarray]:
    """Return draws of effect and spread over all models, 0 in those that have none."""
    shape = found.posterior.draws.shape
    generator = generator_of(found.posterior.record.seed, Stream.AVERAGE)
    names = [one for one in KINDS if found.shares[one] > 0]
    chances = np.array([found.shares[one] for one in names])
    which = generator.choice(len(names), size=shape, p=chances / chances.sum())
    result = {"effect": np.zeros(shape), "spread": np.zeros(shape)}
    for at, one in enumerate(names):
        if one not in found.posteriors:
            continue
        draws = found.posteriors[one].draws
        for name in set(result) & set(draws.names()):
            result[name][which == at] = draws.get(name)[which == at]
    return result
