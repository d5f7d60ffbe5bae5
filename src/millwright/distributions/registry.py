"""The distributions of the model language, by name."""

from __future__ import annotations

import functools

from millwright.distributions.bounded import Beta, Uniform
from millwright.distributions.categories import Categorical, CumulativeLogit, CumulativeProbit
from millwright.distributions.circular import VonMises
from millwright.distributions.correlation import Lkj
from millwright.distributions.counts import (
    Bernoulli,
    BetaBinomial,
    Binomial,
    Geometric,
    NegativeBinomial,
    Poisson,
)
from millwright.distributions.family import Distribution, Family
from millwright.distributions.flat import Flat
from millwright.distributions.gaussian import MultivariateNormal, MultivariateStudentT
from millwright.distributions.half import HalfCauchy, HalfNormal, HalfStudentT
from millwright.distributions.location_scale import Cauchy, Normal, StudentT
from millwright.distributions.modified import Modified
from millwright.distributions.modifiers import MODIFIERS as _ONE_DIMENSIONAL, VARIANTS
from millwright.distributions.ordered import Ordered
from millwright.distributions.positive import Exponential, Gamma, InverseGamma, LogNormal
from millwright.distributions.processes import Autoregressive, GaussianProcess, WalkProcess
from millwright.distributions.simplex import Dirichlet, Multinomial
from millwright.distributions.skew_normal import SkewNormal
from millwright.distributions.skewed import Gumbel, Laplace, Logistic, Pareto, Weibull
from millwright.distributions.state_space import StateSpace
from millwright.distributions.truncation import Truncated
from millwright.distributions.unseen import Unseen

__all__ = ["DISTRIBUTIONS", "MODIFIERS", "VARIANTS", "FamilyKey", "family_for"]

DISTRIBUTIONS: dict[str, Distribution] = {
    family.name: family
    for family in (
        Autoregressive(),
        Bernoulli(),
        Beta(),
        BetaBinomial(),
        Binomial(),
        Categorical(),
        Cauchy(),
        CumulativeLogit(),
        CumulativeProbit(),
        Dirichlet(),
        Exponential(),
        Flat(),
        Gamma(),
        GaussianProcess(),
        Geometric(),
        Gumbel(),
        HalfCauchy(),
        HalfNormal(),
        HalfStudentT(),
        InverseGamma(),
        Laplace(),
        Lkj(),
        LogNormal(),
        Logistic(),
        Multinomial(),
        MultivariateNormal(),
        MultivariateStudentT(),
        NegativeBinomial(),
        Normal(),
        Pareto(),
        Poisson(),
        WalkProcess(),
        SkewNormal(),
        StateSpace(),
        StudentT(),
        Uniform(),
        VonMises(),
        Weibull(),
    )
}

_TRUNCATED = {
    name: Truncated(family)
    for name, family in DISTRIBUTIONS.items()
    if isinstance(family, Family) and family.truncatable
}


MODIFIERS: dict[str, type[Modified | Ordered]] = {**_ONE_DIMENSIONAL, Ordered.name: Ordered}

FamilyKey = str | tuple[object, ...]
"""A distribution's name; for a modified one its name and, for each component, its key and the
names of its arguments."""


@functools.cache
def family_for(key: FamilyKey, given: frozenset[str]) -> Distribution:
    """Return the family for a key, truncated if `low` or `high` are among its arguments."""
    if isinstance(key, tuple):
        name, *components = key
        if name == Unseen.name:
            return Unseen(family_for(*components[0]))  # type: ignore[misc, arg-type]
        kind = VARIANTS.get((str(name), len(components)), MODIFIERS[str(name)])
        return kind(*(family_for(*part) for part in components))  # type: ignore[misc, arg-type]
    if key in _TRUNCATED and given & {"low", "high"}:
        return _TRUNCATED[key]
    return DISTRIBUTIONS[key]
