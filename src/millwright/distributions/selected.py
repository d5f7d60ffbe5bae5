"""Values that are seen more or less often by where they lie, as results that get published."""

from __future__ import annotations

import numpy as np

from millwright.distributions.family import Parameter, Parameters, Support
from millwright.distributions.mathematics import Array, Mathematics
from millwright.distributions.means import has_closed_mean, log_mass, mean_by_slices
from millwright.distributions.modified import (
    PROBABILITY,
    Modified,
    log_interval,
    log_pieces,
    parameters_of,
)
from millwright.distributions.truncation import mean_between

__all__ = ["Selected"]


class Selected(Modified):
    """Values beyond a limit are always seen, others only with the relative chance `weight`.

    The weight function of Vevea and Hedges (1995), "A general linear model for estimating effect
    size in the presence of publication bias", Psychometrika 60; one step each, steps inside
    steps give more of them. The density inside times the weight, over its integral.
    """

    name = "selected"
    summary = "as the distribution inside, but values short of a limit are seen less often"
    own = (
        Parameter("above", "real", "values from here up are always seen", instead_of="of"),
        Parameter("below", "real", "values up to here are always seen", instead_of="of"),
        Parameter("weight", PROBABILITY, "how often others are seen, relative to those"),
    )
    needs_whole = False

    def support(self, p: Parameters) -> Support:
        return self.families["of"].support(parameters_of("of", p))

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        x = m.asarray(x)
        inside = self.families["of"].log_density(m, x, parameters_of("of", p))
        rare = m.log(m.asarray(p["weight"]))
        return inside + m.where(self._always(x, p), 0.0, rare) - self._log_total(m, p)

    @staticmethod
    def _apart(m: Mathematics, p: Parameters) -> Parameters:
        """Return limits that do not cross: between crossed ones nothing is left to be rare."""
        if "above" in p and "below" in p:
            return {**p, "above": m.maximum(m.asarray(p["above"]), m.asarray(p["below"]))}
        return p

    @staticmethod
    def _always(x: Array, p: Parameters) -> Array:
        found = x != x
        if "above" in p:
            found = found | (x >= p["above"])
        return found | (x <= p["below"]) if "below" in p else found

    def _log_total(self, m: Mathematics, p: Parameters) -> Array:
        """Log of the integral of density times weight."""
        return m.logaddexp(*self._ends_and_middle(m, p))

    def _ends_and_middle(self, m: Mathematics, p: Parameters) -> tuple[Array, Array]:
        """Logs of what lies beyond the limits, and of the weighted rest."""
        p = self._apart(m, p)
        family, inner = self.families["of"], parameters_of("of", p)
        rare = m.log(m.asarray(p["weight"]))
        if "below" not in p:
            below, above = family.log_tails(m, p["above"], inner)
            return above, rare + below
        if "above" not in p:
            below, above = family.log_tails(m, p["below"], inner)
            return below, rare + above
        below, between, above = log_pieces(m, family, p["below"], p["above"], inner)
        return m.logaddexp(below, above), rare + between

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        p = self._apart(m, p)
        family, inner = self.families["of"], parameters_of("of", p)
        x = m.asarray(x)
        rare = m.log(m.asarray(p["weight"]))
        if "below" in p:
            found = family.log_cdf(m, m.minimum(x, p["below"]), inner)
            top = m.minimum(x, p["above"]) if "above" in p else x
            rest = rare + log_interval(m, family, p["below"] + 0.0 * top, top, inner)
            found = m.logaddexp(found, rest)
        else:
            found = rare + family.log_cdf(m, m.minimum(x, p["above"]), inner)
        if "above" in p:
            found = m.logaddexp(found, log_interval(m, family, p["above"] + 0.0 * x, x, inner))
        return found - self._log_total(m, p)

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        p = self._apart(m, p)
        family, inner = self.families["of"], parameters_of("of", p)
        x = m.asarray(x)
        rare = m.log(m.asarray(p["weight"]))
        if "above" in p:
            found = family.log_survival(m, m.maximum(x, p["above"]), inner)
            low = m.maximum(x, p["below"]) if "below" in p else x
            rest = rare + log_interval(m, family, low, p["above"] + 0.0 * low, inner)
            found = m.logaddexp(found, rest)
        else:
            found = rare + family.log_survival(m, m.maximum(x, p["below"]), inner)
        if "below" in p:
            found = m.logaddexp(found, log_interval(m, family, x, p["below"] + 0.0 * x, inner))
        return found - self._log_total(m, p)

    def quantile(self, q: Array, p: Parameters) -> Array:
        family, inner = self.families["of"], parameters_of("of", p)
        weight = np.asarray(p["weight"], dtype=float)
        first = family.cdf(np.asarray(p["below"]), inner) if "below" in p else np.asarray(0.0)
        last = np.asarray(1.0)
        if "above" in p:
            last = np.maximum(family.cdf(np.asarray(p["above"]), inner), first)
        total = first + weight * (last - first) + 1 - last
        mass = np.asarray(q) * total
        middle = first + weight * (last - first)
        with np.errstate(divide="ignore", invalid="ignore"):
            between = first + (mass - first) / weight
        inside = np.where(mass <= first, mass, np.where(mass <= middle, between, mass - total + 1))
        return family.quantile(np.clip(inside, 0.0, 1.0), inner)

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return self.quantile(generator.random(size), p)

    @property
    def mean_takes_long(self) -> bool:
        return not has_closed_mean(self.families["of"])

    def mean(self, p: Parameters) -> Array:
        family, inner = self.families["of"], parameters_of("of", p)
        below, above = p.get("below"), p.get("above")
        if below is not None and above is not None:
            # The other way round everything is always seen.
            above = np.maximum(above, below)
        pieces = [(below, above, p["weight"])]
        pieces += [(None, below, 1.0)] if below is not None else []
        pieces += [(above, None, 1.0)] if above is not None else []
        total, mass = np.asarray(0.0), np.asarray(0.0)
        for low, high, weight in pieces:
            mean = mean_between(family, low, high, inner)
            if mean is None:
                return mean_by_slices(self, p)
            part = weight * np.exp(log_mass(family, low, high, inner))
            total, mass = total + np.where(part > 0, part * mean, 0.0), mass + part
        return total / mass
