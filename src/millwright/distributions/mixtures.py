"""Mixtures of distributions; which component a value came from is summed out."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from operator import methodcaller

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.categories import log_shares
from millwright.distributions.family import Family, Parameter, Parameters, Support, larger_bound
from millwright.distributions.mathematics import Array, Mathematics
from millwright.distributions.means import log_mass
from millwright.distributions.modified import PROBABILITY, Modified, parameters_of
from millwright.distributions.quadrature import bisected
from millwright.distributions.truncation import mean_between

__all__ = ["Mixture", "MixtureOverLabels"]


def _masked(m: Mathematics, family: Family, x: Array, p: Parameters) -> Array:
    """Return the log density, -inf outside the support of a component.

    Points outside are moved inside first, so that no unused branch has a NaN gradient.
    """
    support = family.support(p)
    lower, upper = support.lower, support.upper
    safe = support.point_inside()
    if safe is None:
        return family.log_density(m, x, p)
    inside = (x >= lower if lower is not None else True) & (
        x <= upper if upper is not None else True
    )
    return m.where(inside, family.log_density(m, m.where(inside, x, safe), p), -m.inf)


_LEAST, _LARGEST = (methodcaller(name, axis=-1) for name in ("min", "max"))


def _over(extreme: Callable[[Array], Array], bound: Array | None) -> Array | None:
    """Return the least or largest bound of a mixture, whose labels may each have their own."""
    return bound if bound is None or not np.ndim(bound) else extreme(bound)


def _quantile_between(
    mixture: Family, q: Array, p: Parameters, lowest: Array, highest: Array
) -> np.ndarray:
    """Return the quantile of a mixture, which lies between those of its components."""
    low, high = (np.asarray(end, dtype=float) for end in (lowest, highest))
    if not mixture.whole:
        return bisected(lambda x: mixture.cdf(x, p), q, low, high)
    low = low - 1
    for _ in range(70):
        middle = np.floor((low + high) / 2)
        enough = mixture.cdf(middle, p) >= q
        low, high = np.where(enough, low, middle), np.where(enough, middle, high)
    return high


class Mixture(Modified):
    """With probability `share` a draw from the first component, else from the second.

    Which component a row came from is summed out.
    """

    name = "mixture"
    summary = "from the first distribution with probability share, else from the second"
    components = ("first", "second")
    own = (Parameter("share", PROBABILITY, "probability of the first component"),)

    def support(self, p: Parameters) -> Support:
        one, two = (f.support(parameters_of(n, p)) for n, f in self.families.items())
        lower = upper = None
        if one.lower is not None and two.lower is not None:
            lower = -larger_bound(-one.lower, -two.lower)
        if one.upper is not None and two.upper is not None:
            upper = larger_bound(one.upper, two.upper)
        return Support(lower, upper, self.whole)

    def common_support(self, p: Parameters) -> Support:
        one, two = (f.common_support(parameters_of(n, p)) for n, f in self.families.items())
        lower, upper = one.lower, one.upper
        if two.lower is not None:
            lower = two.lower if lower is None else larger_bound(lower, two.lower)
        if two.upper is not None:
            upper = two.upper if upper is None else -larger_bound(-upper, -two.upper)
        return Support(lower, upper, self.whole)

    def _both(self, method: str, m: Mathematics, x: Array, p: Parameters) -> Array:
        values = [
            getattr(family, method)(m, x, parameters_of(name, p))
            for name, family in self.families.items()
        ]
        return self._weighed(m, values, p)

    def log_parts(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        """Return the log density of each component times its probability, shape (..., 2)."""
        share = m.asarray(p["share"])
        first, second = (
            _masked(m, family, m.asarray(x), parameters_of(name, p))
            for name, family in self.families.items()
        )
        parts = m.broadcast_arrays(m.log(share) + first, m.log1p(-share) + second)
        return m.stack(list(parts), axis=-1)

    def _weighed(self, m: Mathematics, values: list[Array], p: Parameters) -> Array:
        share = m.asarray(p["share"])
        return m.logaddexp(m.log(share) + values[0], m.log1p(-share) + values[1])

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        values = [
            _masked(m, family, m.asarray(x), parameters_of(name, p))
            for name, family in self.families.items()
        ]
        return self._weighed(m, values, p)

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self._both("log_cdf", m, x, p)

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self._both("log_survival", m, x, p)

    def log_at_least(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self._both("log_at_least", m, x, p)

    def quantile(self, q: Array, p: Parameters) -> Array:
        ends = [f.quantile(q, parameters_of(n, p)) for n, f in self.families.items()]
        return _quantile_between(self, q, p, np.minimum(*ends), np.maximum(*ends))

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        first = generator.random(size) < p["share"]
        one, two = (f.draw(generator, size, parameters_of(n, p)) for n, f in self.families.items())
        return np.where(first, one, two)

    def mean_within(self, low: Array | None, high: Array | None, p: Parameters) -> Array | None:
        """Return the mean of what lies between two bounds, None being no bound."""
        share = np.asarray(p["share"], dtype=float)
        total, mass = np.asarray(0.0), np.asarray(0.0)
        for weight, (name, family) in zip((share, 1 - share), self.families.items(), strict=True):
            inner = parameters_of(name, p)
            mean = mean_between(family, low, high, inner)
            if mean is None:
                return None
            part = weight * np.exp(log_mass(family, low, high, inner))
            total, mass = total + np.where(part > 0, part * mean, 0.0), mass + part
        return np.asarray(total / mass)

    def mean(self, p: Parameters) -> Array:
        one, two = (np.asarray(f.mean(parameters_of(n, p))) for n, f in self.families.items())
        return p["share"] * one + (1 - np.asarray(p["share"])) * two


class MixtureOverLabels(Modified):
    """A draw from one of several distributions of a kind, one for each label of a label set.

    The component's arguments and `weights` run over the label set; which label a row came from
    is summed out.
    """

    name = "mixture"
    summary = "from one of several distributions, one for each label, with probabilities weights"
    own = (
        Parameter(
            "weights",
            "weight",
            "probability of each label; divided by their sum",
            rank=1,
            own_labels=True,
        ),
    )

    def __init__(self, *families: Family) -> None:
        super().__init__(*families)
        self.parameters = tuple(  # type: ignore[misc]
            replace(parameter, rank=1, own_labels=True) for parameter in self.parameters
        )

    def _log_weights(self, m: Mathematics, p: Parameters) -> Array:
        return log_shares(m, {"probabilities": p["weights"]})

    def log_parts(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        """Return the log density of each component times its probability, shape (..., K)."""
        inner = _masked(m, self.families["of"], m.asarray(x)[..., None], parameters_of("of", p))
        return self._log_weights(m, p) + inner

    def support(self, p: Parameters) -> Support:
        inner = self.families["of"].support(parameters_of("of", p))
        # The widest of the components' ranges.
        return Support(_over(_LEAST, inner.lower), _over(_LARGEST, inner.upper), self.whole)

    def common_support(self, p: Parameters) -> Support:
        inner = self.families["of"].common_support(parameters_of("of", p))
        return Support(_over(_LARGEST, inner.lower), _over(_LEAST, inner.upper), self.whole)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return m.logsumexp(self.log_parts(m, x, p), axis=-1)

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        below = self.families["of"].log_cdf(m, m.asarray(x)[..., None], parameters_of("of", p))
        return m.logsumexp(self._log_weights(m, p) + below, axis=-1)

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        above = self.families["of"].log_survival(
            m, m.asarray(x)[..., None], parameters_of("of", p)
        )
        return m.logsumexp(self._log_weights(m, p) + above, axis=-1)

    def quantile(self, q: Array, p: Parameters) -> Array:
        ends = self.families["of"].quantile(
            np.asarray(q, dtype=float)[..., None], parameters_of("of", p)
        )
        return _quantile_between(self, q, p, ends.min(axis=-1), ends.max(axis=-1))

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        weights = np.exp(self._log_weights(on_numpy, p))
        upto = np.cumsum(weights, axis=-1)
        u = generator.random(size)[..., None]
        label = np.sum(u > upto[..., :-1], axis=-1)[..., None]
        many = (*size, weights.shape[-1])
        values = self.families["of"].draw(generator, many, parameters_of("of", p))
        return np.take_along_axis(values, label, axis=-1)[..., 0]

    def mean_within(self, low: Array | None, high: Array | None, p: Parameters) -> Array | None:
        """Return the mean of what lies between two bounds, None being no bound."""
        low, high = (None if b is None else np.asarray(b)[..., None] for b in (low, high))
        family, inner = self.families["of"], parameters_of("of", p)
        mean = mean_between(family, low, high, inner)
        if mean is None:
            return None
        parts = np.exp(self._log_weights(on_numpy, p) + log_mass(family, low, high, inner))
        total = np.where(parts > 0, parts * mean, 0.0).sum(axis=-1)
        return np.asarray(total / parts.sum(axis=-1))

    def mean(self, p: Parameters) -> Array:
        weights = np.exp(self._log_weights(on_numpy, p))
        return np.sum(weights * self.families["of"].mean(parameters_of("of", p)), axis=-1)
