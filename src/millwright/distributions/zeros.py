"""Counts with more or fewer zeros than their distribution has."""

from __future__ import annotations

import numpy as np

from millwright.distributions.family import Parameter, Parameters, Support
from millwright.distributions.mathematics import Array, Mathematics, log_diff_exp
from millwright.distributions.modified import PROBABILITY, Modified, parameters_of
from millwright.distributions.tails import log_one_minus_exp

__all__ = ["Hurdle", "ZeroInflated"]


class _WithZeros(Modified):
    """A count that is zero with a probability `share` of its own."""

    needs_whole = True

    def support(self, p: Parameters) -> Support:
        return self.families["of"].support(parameters_of("of", p))

    def _log_zero(self, m: Mathematics, p: Parameters) -> tuple[Array, Array]:
        share = m.asarray(p["share"])
        return m.log(share), m.log1p(-share)


class ZeroInflated(_WithZeros):
    """With probability `share` zero, else a draw from `of`, which may be zero too."""

    name = "zero_inflated"
    summary = "zero with probability share, else a count from the distribution inside"
    own = (Parameter("share", PROBABILITY, "probability of an extra zero"),)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        zero, rest = self._log_zero(m, p)
        inside = rest + self.families["of"].log_density(m, x, parameters_of("of", p))
        return m.where(m.asarray(x) == 0, m.logaddexp(zero, inside), inside)

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        zero, rest = self._log_zero(m, p)
        inside = rest + self.families["of"].log_cdf(m, x, parameters_of("of", p))
        return m.where(m.asarray(x) >= 0, m.logaddexp(zero, inside), -m.inf)

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        _, rest = self._log_zero(m, p)
        inside = rest + self.families["of"].log_survival(
            m, m.maximum(x, 0.0), parameters_of("of", p)
        )
        return m.where(m.asarray(x) >= 0, inside, 0.0)

    def quantile(self, q: Array, p: Parameters) -> Array:
        share = np.asarray(p["share"], dtype=float)
        rest = np.clip((np.asarray(q) - share) / (1 - share), 0.0, 1.0)
        return np.where(rest > 0, self.families["of"].quantile(rest, parameters_of("of", p)), 0.0)

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        zero = generator.random(size) < p["share"]
        return np.where(
            zero, 0.0, self.families["of"].draw(generator, size, parameters_of("of", p))
        )

    def mean(self, p: Parameters) -> Array:
        return (1 - np.asarray(p["share"])) * self.families["of"].mean(parameters_of("of", p))


class Hurdle(_WithZeros):
    """With probability `share` zero, else a draw from `of` given that it is above zero."""

    name = "hurdle"
    summary = "zero with probability share, else a count above zero"
    own = (Parameter("share", PROBABILITY, "probability of zero"),)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        zero, rest = self._log_zero(m, p)
        above = self.families["of"].log_density(m, m.maximum(x, 1.0), parameters_of("of", p))
        beyond = self._log_above(m, p)
        # Where a count above zero has no probability left, to rounding, dividing by it would
        # make such counts infinitely likely.
        possible = m.isfinite(beyond)
        counted = rest + above - m.where(possible, beyond, 0.0)
        return m.where(m.asarray(x) == 0, zero, m.where(possible, counted, -m.inf))

    def _log_above(self, m: Mathematics, p: Parameters) -> Array:
        """Log of the probability that the distribution inside is above zero."""
        zero = self.families["of"].log_density(m, m.asarray(0.0), parameters_of("of", p))
        return log_one_minus_exp(m, zero)

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return log_diff_exp(m, 0.0 * m.asarray(x), self.log_survival(m, x, p))

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        _, rest = self._log_zero(m, p)
        beyond = self.families["of"].log_survival(m, m.maximum(x, 0.0), parameters_of("of", p))
        return m.where(m.asarray(x) >= 0, rest + beyond - self._log_above(m, p), 0.0)

    def quantile(self, q: Array, p: Parameters) -> Array:
        share = np.asarray(p["share"], dtype=float)
        rest = np.clip((np.asarray(q) - share) / (1 - share), 0.0, 1.0)
        inner, family = parameters_of("of", p), self.families["of"]
        at_zero = family.cdf(np.asarray(0.0), inner)
        above = np.maximum(family.quantile(at_zero + rest * (1 - at_zero), inner), 1.0)
        return np.where(rest > 0, above, 0.0)

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return self.quantile(generator.random(size), p)

    def mean(self, p: Parameters) -> Array:
        above = 1 - self.families["of"].cdf(np.asarray(0.0), parameters_of("of", p))
        return (
            (1 - np.asarray(p["share"])) * self.families["of"].mean(parameters_of("of", p)) / above
        )
