"""Probabilities of models from their evidences."""

from __future__ import annotations

from collections.abc import Collection, Hashable, Mapping
from typing import TypeVar

import numpy as np
from scipy.special import logsumexp

__all__ = ["inclusion_of", "posterior_shares"]

Name = TypeVar("Name", bound=Hashable)


def posterior_shares(logs: Mapping[Name, float], prior: Mapping[Name, float]) -> dict[Name, float]:
    """Return the posterior probability of each model from log evidences and prior ones."""
    with np.errstate(divide="ignore"):
        terms = np.array([logs[name] + np.log(prior[name]) for name in logs])
    shares = np.exp(terms - logsumexp(terms))
    return dict(zip(logs, (float(one) for one in shares), strict=True))


def inclusion_of(
    within: Collection[Name], logs: Mapping[Name, float], prior: Mapping[Name, float]
) -> float:
    """Return the log Bayes factor of some models over all others, each side by its priors.

    Not a number where one side has no prior probability.
    """
    sides = []
    for inside in (True, False):
        names = [name for name in logs if (name in within) == inside and prior[name] > 0]
        if not names:
            return float("nan")
        weights = np.array([prior[name] for name in names])
        values = np.array([logs[name] for name in names])
        sides.append(float(logsumexp(values, b=weights / weights.sum())))
    return sides[0] - sides[1]
