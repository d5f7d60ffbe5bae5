"""The distributions of the model language, by name."""

from __future__ import annotations

import functools

from millwright.distributions.bounded import Beta, Uniform
from millwright.distributions.counts import (
    Bernoulli,
    BetaBinomial,
    Binomial,
    Geometric,
    NegativeBinomial,
    Poisson,
)
from millwright.distributions.family import Family
from millwright.distributions.half import HalfCauchy, HalfNormal, HalfStudentT
from millwright.distributions.location_scale import Cauchy, Normal, StudentT
from millwright.distributions.modifiers import MODIFIERS
from millwright.distributions.positive import Exponential, Gamma, InverseGamma, LogNormal
from millwright.distributions.skewed import Gumbel, Laplace, Logistic, Pareto, Weibull
from millwright.distributions.truncation import Truncated

__all__ = ["DISTRIBUTIONS", "MODIFIERS", "FamilyKey", "family_for"]

DISTRIBUTIONS: dict[str, Family] = {
    family.name: family
    for family in (
        Bernoulli(),
        Beta(),
        BetaBinomial(),
        Binomial(),
        Cauchy(),
        Exponential(),
        Gamma(),
        Geometric(),
        Gumbel(),
        HalfCauchy(),
        HalfNormal(),
        HalfStudentT(),
        InverseGamma(),
        Laplace(),
        LogNormal(),
        Logistic(),
        NegativeBinomial(),
        Normal(),
        Pareto(),
        Poisson(),
        StudentT(),
        Uniform(),
        Weibull(),
    )
}

_TRUNCATED = {
    name: Truncated(family) for name, family in DISTRIBUTIONS.items() if family.truncatable
}


FamilyKey = str | tuple[object, ...]
"""A distribution's name; for a modified one its name and, for each component, its key and the
names of its arguments."""


@functools.cache
def family_for(key: FamilyKey, given: frozenset[str]) -> Family:
    """Return the family for a key, truncated if `low` or `high` are among its arguments."""
    if isinstance(key, tuple):
        name, *components = key
        return MODIFIERS[str(name)](*(family_for(*part) for part in components))  # type: ignore[misc]
    if key in _TRUNCATED and given & {"low", "high"}:
        return _TRUNCATED[key]
    return DISTRIBUTIONS[key]
