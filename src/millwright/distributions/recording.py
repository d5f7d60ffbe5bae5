"""Values that are recorded beyond a limit, or rounded."""

from __future__ import annotations

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.family import Parameter, Parameters, Support
from millwright.distributions.mathematics import Array, Mathematics
from millwright.distributions.means import (
    MOST_TERMS,
    has_closed_mean,
    log_mass,
    mean_by_slices,
)
from millwright.distributions.modified import Modified, log_interval, parameters_of
from millwright.distributions.truncation import mean_between

__all__ = ["Censored", "Rounded"]


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
        family, inner = self.families["of"], parameters_of("of", p)
        x = m.asarray(x)
        result = family.log_density(m, self._between(m, x, p), inner)
        if "low" in p:
            result = m.where(x <= p["low"], family.log_cdf(m, p["low"], inner), result)
        if "high" in p:
            result = m.where(x >= p["high"], family.log_at_least(m, p["high"], inner), result)
        return result

    def log_at_least(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        result = self.families["of"].log_at_least(m, x, parameters_of("of", p))
        if "low" in p:
            result = m.where(m.asarray(x) <= p["low"], 0.0, result)
        return m.where(m.asarray(x) > p["high"], -m.inf, result) if "high" in p else result

    def _between(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        """Replace censored values by ordinary ones.

        The branch that is not used must neither overflow nor have a NaN gradient there: limits
        may lie at the end of what the distribution inside can be, or beyond it.
        """
        low, high = p.get("low", -np.inf), p.get("high", np.inf)
        clipped = m.minimum(m.maximum(x, low), high)
        support = self.families["of"].common_support(parameters_of("of", p))
        inside = support.point_inside()
        if inside is None:
            return clipped
        beyond = (clipped <= support.lower if support.lower is not None else False) | (
            clipped >= support.upper if support.upper is not None else False
        )
        return m.where(((x <= low) | (x >= high)) & beyond, inside, clipped)

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        result = self.families["of"].log_cdf(m, x, parameters_of("of", p))
        if "low" in p:
            result = m.where(m.asarray(x) < p["low"], -m.inf, result)
        return m.where(m.asarray(x) >= p["high"], 0.0, result) if "high" in p else result

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        result = self.families["of"].log_survival(m, x, parameters_of("of", p))
        if "low" in p:
            result = m.where(m.asarray(x) < p["low"], 0.0, result)
        return m.where(m.asarray(x) >= p["high"], -m.inf, result) if "high" in p else result

    def quantile(self, q: Array, p: Parameters) -> Array:
        return self._recorded(self.families["of"].quantile(q, parameters_of("of", p)), p)

    def _recorded(self, x: Array, p: Parameters) -> Array:
        x = np.maximum(x, p["low"]) if "low" in p else x
        return np.minimum(x, p["high"]) if "high" in p else x

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return self._recorded(self.families["of"].draw(generator, size, parameters_of("of", p)), p)

    @property
    def mean_takes_long(self) -> bool:
        return not has_closed_mean(self.families["of"])

    def mean(self, p: Parameters) -> Array:
        """Return the mean of the recorded values."""
        family, inner = self.families["of"], parameters_of("of", p)
        low, high = p.get("low"), p.get("high")
        mean = mean_between(family, low, high, inner)
        if mean is None:
            return mean_by_slices(self, p)
        mass = np.exp(log_mass(family, low, high, inner))
        total = np.where(mass > 0, mass * mean, 0.0)
        with np.errstate(all="ignore"):
            if low is not None:
                total = total + low * family.cdf(low, inner)
            if high is not None:
                at_high = np.asarray(high, dtype=float)
                total = total + high * np.exp(family.log_survival(on_numpy, at_high, inner))
        return total


class Rounded(Modified):
    """Values are recorded to the nearest multiple of `to`."""

    name = "rounded"
    summary = "as the distribution inside, recorded to the nearest multiple of `to`"
    own = (Parameter("to", "positive", "step of the grid that values are recorded to"),)
    needs_whole = False

    def support(self, p: Parameters) -> Support:
        base = self.families["of"].support(parameters_of("of", p))
        half = p["to"] / 2
        lower = None if base.lower is None else base.lower - half
        return Support(lower, None if base.upper is None else base.upper + half)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        """Log probability of the interval that is recorded as x, from the side that is exact."""
        step = 0.5 * m.asarray(p["to"])
        return log_interval(m, self.families["of"], x - step, x + step, parameters_of("of", p))

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        edge = (m.floor(m.asarray(x) / p["to"]) + 0.5) * p["to"]
        return self.families["of"].log_cdf(m, edge, parameters_of("of", p))

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        edge = (m.floor(m.asarray(x) / p["to"]) + 0.5) * p["to"]
        return self.families["of"].log_survival(m, edge, parameters_of("of", p))

    def log_at_least(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        # From half a step below the first multiple that is not below x.
        edge = (-m.floor(-m.asarray(x) / p["to"]) - 0.5) * p["to"]
        return self.families["of"].log_at_least(m, edge, parameters_of("of", p))

    def quantile(self, q: Array, p: Parameters) -> Array:
        return self._recorded(self.families["of"].quantile(q, parameters_of("of", p)), p)

    def _recorded(self, x: Array, p: Parameters) -> Array:
        return np.floor(np.asarray(x) / p["to"] + 0.5) * p["to"]

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return self._recorded(self.families["of"].draw(generator, size, parameters_of("of", p)), p)

    @property
    def mean_takes_long(self) -> bool:
        return True

    def mean(self, p: Parameters) -> Array:
        """Return the mean of the recorded values: a sum over the grid, unless it is fine."""
        family, inner = self.families["of"], parameters_of("of", p)
        step = np.asarray(p["to"], dtype=float)
        first = self.quantile(np.asarray(1e-10), p)
        last = self.quantile(np.asarray(1 - 1e-10), p)
        terms = np.max((last - first) / step)
        # For a normal distribution no narrower than a step the two means agree to 1e-8 steps.
        fine = family.name == "normal" and "low" not in inner and "high" not in inner
        if not terms <= MOST_TERMS or (fine and np.all(inner["scale"] >= step)):
            return family.mean(inner)
        total = first
        for at in range(int(terms) + 1):
            edge = first + (at + 0.5) * step
            total = total + step * np.exp(family.log_survival(on_numpy, edge, inner))
        return total
