"""Distributions made from others: mixtures, zero inflation, hurdles, censoring, rounding.

A modified distribution is a family of its own. Its parameters are those of its components,
each with the component's name in front (`first.location`), and its own.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.categories import log_shares
from millwright.distributions.family import Family, Parameter, Parameters, Support
from millwright.distributions.mathematics import Array, Mathematics, log_diff_exp
from millwright.distributions.quadrature import bisected

__all__ = [
    "MODIFIERS",
    "VARIANTS",
    "Censored",
    "Hurdle",
    "Mixture",
    "MixtureOverLabels",
    "Modified",
    "Rounded",
    "ZeroInflated",
]

_SHARE = "probability"


def _inner(name: str, p: Parameters) -> dict[str, Array]:
    """Return the parameters of one component."""
    prefix = name + "."
    return {key[len(prefix) :]: value for key, value in p.items() if key.startswith(prefix)}


def _masked(m: Mathematics, family: Family, x: Array, p: Parameters) -> Array:
    """Return the log density, -inf outside the support of a component.

    Points outside are moved inside first, so that no unused branch has a NaN gradient.
    """
    support = family.support(p)
    lower, upper = support.lower, support.upper
    if lower is None and upper is None:
        return family.log_density(m, x, p)
    inside = (x >= lower if lower is not None else True) & (
        x <= upper if upper is not None else True
    )
    if lower is not None and upper is not None:
        safe = (lower + upper) / 2
    else:
        safe = upper - 1.0 if lower is None else lower + 1.0  # type: ignore[operator]
    return m.where(inside, family.log_density(m, m.where(inside, x, safe), p), -m.inf)


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


class Modified(Family):
    """A family built from component families.

    Attributes
    ----------
    components
        Names of the components in the order in which a call gives them.
    own
        Parameters of the modifier itself.
    """

    components: tuple[str, ...] = ("of",)
    own: tuple[Parameter, ...] = ()
    needs_whole: bool | None = None
    truncatable = False

    def __init__(self, *families: Family) -> None:
        self.families = dict(zip(self.components, families, strict=True))
        inner = [
            Parameter(f"{name}.{q.name}", q.domain, q.meaning, instead_of=q.instead_of)
            for name, family in self.families.items()
            for q in family.parameters
        ]
        self.parameters = (*inner, *self.own)  # type: ignore[misc]
        self.whole = any(family.whole for family in families)  # type: ignore[misc]

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        return self.quantile(1 - np.asarray(q), p)


class Mixture(Modified):
    """With probability `share` a draw from the first component, else from the second.

    Which component a row came from is summed out.
    """

    name = "mixture"
    summary = "from the first distribution with probability share, else from the second"
    components = ("first", "second")
    own = (Parameter("share", _SHARE, "probability of the first component"),)

    def support(self, p: Parameters) -> Support:
        one, two = (f.support(_inner(n, p)) for n, f in self.families.items())
        lower = (
            None if one.lower is None or two.lower is None else np.minimum(one.lower, two.lower)
        )
        upper = (
            None if one.upper is None or two.upper is None else np.maximum(one.upper, two.upper)
        )
        return Support(lower, upper, self.whole)

    def _both(self, method: str, m: Mathematics, x: Array, p: Parameters) -> Array:
        values = [
            getattr(family, method)(m, x, _inner(name, p))
            for name, family in self.families.items()
        ]
        return self._weighed(m, values, p)

    def log_parts(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        """Return the log density of each component times its probability, shape (..., 2)."""
        share = m.asarray(p["share"])
        first, second = (
            _masked(m, family, m.asarray(x), _inner(name, p))
            for name, family in self.families.items()
        )
        parts = m.broadcast_arrays(m.log(share) + first, m.log1p(-share) + second)
        return m.stack(list(parts), axis=-1)

    def _weighed(self, m: Mathematics, values: list[Array], p: Parameters) -> Array:
        share = m.asarray(p["share"])
        return m.logaddexp(m.log(share) + values[0], m.log1p(-share) + values[1])

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        values = [
            _masked(m, family, m.asarray(x), _inner(name, p))
            for name, family in self.families.items()
        ]
        return self._weighed(m, values, p)

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self._both("log_cdf", m, x, p)

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self._both("log_survival", m, x, p)

    def quantile(self, q: Array, p: Parameters) -> Array:
        ends = [f.quantile(q, _inner(n, p)) for n, f in self.families.items()]
        return _quantile_between(self, q, p, np.minimum(*ends), np.maximum(*ends))

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        first = generator.random(size) < p["share"]
        one, two = (f.draw(generator, size, _inner(n, p)) for n, f in self.families.items())
        return np.where(first, one, two)

    def mean(self, p: Parameters) -> Array:
        one, two = (np.asarray(f.mean(_inner(n, p))) for n, f in self.families.items())
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
        inner = _masked(m, self.families["of"], m.asarray(x)[..., None], _inner("of", p))
        return self._log_weights(m, p) + inner

    def support(self, p: Parameters) -> Support:
        inner = self.families["of"].support(_inner("of", p))
        # The widest of the components' ranges.
        lower = None if inner.lower is None else np.min(np.atleast_1d(inner.lower), axis=-1)
        upper = None if inner.upper is None else np.max(np.atleast_1d(inner.upper), axis=-1)
        return Support(lower, upper, self.whole)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return m.logsumexp(self.log_parts(m, x, p), axis=-1)

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        below = self.families["of"].log_cdf(m, m.asarray(x)[..., None], _inner("of", p))
        return m.logsumexp(self._log_weights(m, p) + below, axis=-1)

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        above = self.families["of"].log_survival(m, m.asarray(x)[..., None], _inner("of", p))
        return m.logsumexp(self._log_weights(m, p) + above, axis=-1)

    def quantile(self, q: Array, p: Parameters) -> Array:
        ends = self.families["of"].quantile(np.asarray(q, dtype=float)[..., None], _inner("of", p))
        return _quantile_between(self, q, p, ends.min(axis=-1), ends.max(axis=-1))

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        weights = np.exp(self._log_weights(on_numpy, p))
        upto = np.cumsum(weights, axis=-1)
        u = generator.random(size)[..., None]
        label = np.sum(u > upto[..., :-1], axis=-1)[..., None]
        many = (*size, weights.shape[-1])
        values = self.families["of"].draw(generator, many, _inner("of", p))
        return np.take_along_axis(values, label, axis=-1)[..., 0]

    def mean(self, p: Parameters) -> Array:
        weights = np.exp(self._log_weights(on_numpy, p))
        return np.sum(weights * self.families["of"].mean(_inner("of", p)), axis=-1)


class ZeroInflated(Modified):
    """With probability `share` zero, else a draw from `of`, which may be zero too."""

    name = "zero_inflated"
    summary = "zero with probability share, else a count from the distribution inside"
    own = (Parameter("share", _SHARE, "probability of an extra zero"),)
    needs_whole = True

    def support(self, p: Parameters) -> Support:
        return self.families["of"].support(_inner("of", p))

    def _log_zero(self, m: Mathematics, p: Parameters) -> tuple[Array, Array]:
        share = m.asarray(p["share"])
        return m.log(share), m.log1p(-share)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        zero, rest = self._log_zero(m, p)
        inside = rest + self.families["of"].log_density(m, x, _inner("of", p))
        return m.where(m.asarray(x) == 0, m.logaddexp(zero, inside), inside)

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        zero, rest = self._log_zero(m, p)
        inside = rest + self.families["of"].log_cdf(m, x, _inner("of", p))
        return m.where(m.asarray(x) >= 0, m.logaddexp(zero, inside), -m.inf)

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        _, rest = self._log_zero(m, p)
        inside = rest + self.families["of"].log_survival(m, m.maximum(x, 0.0), _inner("of", p))
        return m.where(m.asarray(x) >= 0, inside, 0.0)

    def quantile(self, q: Array, p: Parameters) -> Array:
        share = np.asarray(p["share"], dtype=float)
        rest = np.clip((np.asarray(q) - share) / (1 - share), 0.0, 1.0)
        return np.where(rest > 0, self.families["of"].quantile(rest, _inner("of", p)), 0.0)

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        zero = generator.random(size) < p["share"]
        return np.where(zero, 0.0, self.families["of"].draw(generator, size, _inner("of", p)))

    def mean(self, p: Parameters) -> Array:
        return (1 - np.asarray(p["share"])) * self.families["of"].mean(_inner("of", p))


class Hurdle(ZeroInflated):
    """With probability `share` zero, else a draw from `of` given that it is above zero."""

    name = "hurdle"
    summary = "zero with probability share, else a count above zero"
    own = (Parameter("share", _SHARE, "probability of zero"),)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        zero, rest = self._log_zero(m, p)
        above = self.families["of"].log_density(m, m.maximum(x, 1.0), _inner("of", p))
        return m.where(m.asarray(x) == 0, zero, rest + above - self._log_above(m, p))

    def _log_above(self, m: Mathematics, p: Parameters) -> Array:
        """Log of the probability that the distribution inside is above zero."""
        return self.families["of"].log_survival(m, m.asarray(0.0), _inner("of", p))

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return log_diff_exp(m, 0.0 * m.asarray(x), self.log_survival(m, x, p))

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        _, rest = self._log_zero(m, p)
        beyond = self.families["of"].log_survival(m, m.maximum(x, 0.0), _inner("of", p))
        return m.where(m.asarray(x) >= 0, rest + beyond - self._log_above(m, p), 0.0)

    def quantile(self, q: Array, p: Parameters) -> Array:
        share = np.asarray(p["share"], dtype=float)
        rest = np.clip((np.asarray(q) - share) / (1 - share), 0.0, 1.0)
        inner, family = _inner("of", p), self.families["of"]
        at_zero = family.cdf(np.asarray(0.0), inner)
        above = np.maximum(family.quantile(at_zero + rest * (1 - at_zero), inner), 1.0)
        return np.where(rest > 0, above, 0.0)

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return self.quantile(generator.random(size), p)

    def mean(self, p: Parameters) -> Array:
        above = 1 - self.families["of"].cdf(np.asarray(0.0), _inner("of", p))
        return (1 - np.asarray(p["share"])) * self.families["of"].mean(_inner("of", p)) / above


class Censored(Modified):
    """Values beyond a limit are recorded as the limit.

    A value at or below `low` counts with the probability of lying at or below it, one at or
    above `high` likewise; values between with their density.
    """

    name = "censored"
    summary = "as the distribution inside, but values beyond a limit are recorded as the limit"
    own = (
        Parameter("low", "real", "values at or below were not told apart", instead_of="of"),
        Parameter("high", "real", "values at or above were not told apart", instead_of="of"),
    )
    needs_whole = False

    def support(self, p: Parameters) -> Support:
        return Support(p.get("low"), p.get("high"))

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        family, inner = self.families["of"], _inner("of", p)
        x = m.asarray(x)
        result = family.log_density(m, self._between(m, x, p), inner)
        if "low" in p:
            result = m.where(x <= p["low"], family.log_cdf(m, p["low"], inner), result)
        if "high" in p:
            result = m.where(x >= p["high"], family.log_survival(m, p["high"], inner), result)
        return result

    def _between(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        """Replace censored values by ordinary ones, so that no unused branch overflows."""
        x = m.maximum(x, p["low"]) if "low" in p else x
        return m.minimum(x, p["high"]) if "high" in p else x

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        result = self.families["of"].log_cdf(m, x, _inner("of", p))
        if "low" in p:
            result = m.where(m.asarray(x) < p["low"], -m.inf, result)
        return m.where(m.asarray(x) >= p["high"], 0.0, result) if "high" in p else result

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        result = self.families["of"].log_survival(m, x, _inner("of", p))
        if "low" in p:
            result = m.where(m.asarray(x) < p["low"], 0.0, result)
        return m.where(m.asarray(x) >= p["high"], -m.inf, result) if "high" in p else result

    def quantile(self, q: Array, p: Parameters) -> Array:
        return self._recorded(self.families["of"].quantile(q, _inner("of", p)), p)

    def _recorded(self, x: Array, p: Parameters) -> Array:
        x = np.maximum(x, p["low"]) if "low" in p else x
        return np.minimum(x, p["high"]) if "high" in p else x

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return self._recorded(self.families["of"].draw(generator, size, _inner("of", p)), p)

    def mean(self, p: Parameters) -> Array:
        # Of the recorded values: by the midpoints of many equal slices of probability.
        q = (np.arange(2000) + 0.5) / 2000
        values: dict[str, Any] = {k: np.asarray(v, dtype=float)[..., None] for k, v in p.items()}
        return self.quantile(q, values).mean(axis=-1)


class Rounded(Modified):
    """Values are recorded to the nearest multiple of `to`."""

    name = "rounded"
    summary = "as the distribution inside, recorded to the nearest multiple of `to`"
    own = (Parameter("to", "positive", "step of the grid that values are recorded to"),)
    needs_whole = False

    def support(self, p: Parameters) -> Support:
        base = self.families["of"].support(_inner("of", p))
        half = np.asarray(p["to"]) / 2
        lower = None if base.lower is None else base.lower - half
        return Support(lower, None if base.upper is None else base.upper + half)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        """Log probability of the interval that is recorded as x, from the side that is exact."""
        family, inner = self.families["of"], _inner("of", p)
        low, high = x - 0.5 * p["to"], x + 0.5 * p["to"]
        upper = family.log_survival(m, low, inner)
        lower = family.log_cdf(m, high, inner)
        right = upper < lower
        larger = m.where(right, upper, lower)
        smaller = m.where(
            right, family.log_survival(m, high, inner), family.log_cdf(m, low, inner)
        )
        finite = smaller > -m.inf
        return m.where(
            finite, log_diff_exp(m, larger, m.where(finite, smaller, larger - 1.0)), larger
        )

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        edge = (m.floor(m.asarray(x) / p["to"]) + 0.5) * p["to"]
        return self.families["of"].log_cdf(m, edge, _inner("of", p))

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        edge = (m.floor(m.asarray(x) / p["to"]) + 0.5) * p["to"]
        return self.families["of"].log_survival(m, edge, _inner("of", p))

    def quantile(self, q: Array, p: Parameters) -> Array:
        return self._recorded(self.families["of"].quantile(q, _inner("of", p)), p)

    def _recorded(self, x: Array, p: Parameters) -> Array:
        return np.floor(np.asarray(x) / p["to"] + 0.5) * p["to"]

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return self._recorded(self.families["of"].draw(generator, size, _inner("of", p)), p)

    def mean(self, p: Parameters) -> Array:
        return self.families["of"].mean(_inner("of", p))


VARIANTS: dict[tuple[str, int], type[Modified]] = {("mixture", 1): MixtureOverLabels}
"""Forms of a modifier with another number of components."""

MODIFIERS: dict[str, type[Modified]] = {
    kind.name: kind for kind in (Censored, Hurdle, Mixture, Rounded, ZeroInflated)
}
