"""The distributions of the model language, by name."""

from __future__ import annotations

from millwright.distributions.bounded import Beta, Uniform
from millwright.distributions.counts import Bernoulli, Binomial, NegativeBinomial, Poisson
from millwright.distributions.family import Family
from millwright.distributions.half import HalfCauchy, HalfNormal, HalfStudentT
from millwright.distributions.location_scale import Cauchy, Normal, StudentT
from millwright.distributions.positive import Exponential, Gamma, InverseGamma, LogNormal
from millwright.distributions.truncation import Truncated

__all__ = ["DISTRIBUTIONS", "family_for"]

DISTRIBUTIONS: dict[str, Family] = {
    family.name: family
    for family in (
        Bernoulli(),
        Beta(),
        Binomial(),
        Cauchy(),
        Exponential(),
        Gamma(),
        HalfCauchy(),
        HalfNormal(),
        HalfStudentT(),
        InverseGamma(),
        LogNormal(),
        NegativeBinomial(),
        Normal(),
        Poisson(),
        StudentT(),
        Uniform(),
    )
}

_TRUNCATED = {
    name: Truncated(family) for name, family in DISTRIBUTIONS.items() if family.truncatable
}


def family_for(name: str, given: frozenset[str]) -> Family:
    """Return the family called `name`, truncated if `low` or `high` are among its arguments."""
    if name in _TRUNCATED and given & {"low", "high"}:
        return _TRUNCATED[name]
    return DISTRIBUTIONS[name]
