"""Probabilities of models and of what they share, from their evidences."""

from __future__ import annotations

from collections.abc import Collection, Hashable, Mapping, Sequence
from typing import Any, NamedTuple, TypeVar

import numpy as np
import pandas as pd
from scipy.special import logsumexp

from millwright.draws.numbers import chance_text
from millwright.errors import ArgumentError, nearest
from millwright.evidence.bayes_factor import factor_words, strength, times_text
from millwright.studies.checks import check_number

__all__ = [
    "Inclusion",
    "inclusion",
    "inclusion_of",
    "inclusion_table",
    "posterior_shares",
    "prior_shares",
    "weighed_words",
]

Name = TypeVar("Name", bound=Hashable)
_DIGITS = 10_000


class Inclusion(NamedTuple):
    """Prior and posterior probability of a claim, and the log Bayes factor over all else."""

    before: float
    after: float
    log_factor: float


def prior_shares(names: Sequence[str], given: Mapping[str, float] | None) -> dict[str, float]:
    """Return prior probabilities that sum to 1: equal ones, or as given, 0 where not named.

    Raises
    ------
    ArgumentError
        For unknown names, or numbers that are none, negative or all 0.
    """
    if given is None:
        return dict.fromkeys(names, 1 / len(names))
    for name, value in given.items():
        if name not in names:
            raise ArgumentError(
                f"`prior` names {name!r}.{nearest(str(name), names)} There are: "
                f"{'; '.join(names)}."
            )
        check_number(f"prior of {name}", value)
        if value < 0:
            raise ArgumentError(f"The prior probability of `{name}` is negative: {value!r}.")
    total = float(sum(given.values()))
    if not total > 0:
        raise ArgumentError(
            f"`prior` gives nothing any probability. There are: {'; '.join(names)}."
        )
    return {name: float(given.get(name, 0.0)) / total for name in names}


def posterior_shares(logs: Mapping[Name, float], prior: Mapping[Name, float]) -> dict[Name, float]:
    """Return the posterior probability of each model from log evidences and prior ones."""
    with np.errstate(divide="ignore"):
        terms = np.array([logs[name] + np.log(prior[name]) for name in logs])
    shares = np.exp(terms - logsumexp(terms))
    return dict(zip(logs, (float(one) for one in shares), strict=True))


def inclusion_of(
    within: Collection[Name], logs: Mapping[Name, Any], prior: Mapping[Name, float]
) -> Any:
    """Return the log Bayes factor of some models over all others, each side by its priors.

    Log evidences are numbers, or arrays of one shape, and so is the result. Not a number where one
    side has no prior probability.
    """
    sides = []
    for inside in (True, False):
        names = [name for name in logs if (name in within) == inside and prior[name] > 0]
        if not names:
            return float("nan")
        terms = [logs[name] + np.log(prior[name]) for name in names]
        whole = sum(prior[name] for name in names)
        sides.append(logsumexp(np.stack(terms), axis=0) - np.log(whole))
    return sides[0] - sides[1]


def inclusion(
    within: Collection[Name],
    logs: Mapping[Name, float],
    prior: Mapping[Name, float],
    shares: Mapping[Name, float],
) -> Inclusion:
    """Weigh some models against all others."""
    return Inclusion(
        before=sum(prior[name] for name in within),
        after=sum(shares[name] for name in within),
        log_factor=float(inclusion_of(within, logs, prior)),
    )


def inclusion_table(found: Mapping[str, Inclusion]) -> pd.DataFrame:
    """Return what is weighed as a table, one row a term."""
    rows = {
        term: {
            "prior probability": one.before,
            "posterior probability": one.after,
            "log Bayes factor": one.log_factor,
            "in words": factor_words(one.log_factor, term),
        }
        for term, one in found.items()
    }
    return pd.DataFrame(rows).T.rename_axis("term").infer_objects()


def weighed_words(claim: str, found: Inclusion) -> str:
    """Say how the data weigh a claim against none, and what its probability becomes."""
    if np.isnan(found.log_factor):
        return f"Whether there is {claim} was not asked: the prior of the models settles it."
    one, other = (claim, "none") if found.log_factor >= 0 else ("none", claim)
    return (
        f"The data are {times_text(found.log_factor)} times as probable under {one} as under "
        f"{other} ({strength(found.log_factor)}); the probability of {claim} goes from "
        f"{found.before:.2g} to {chance_text(found.after, _DIGITS)}. It compares these priors."
    )
