"""Values that are recorded beyond a limit, or rounded."""

from __future__ import annotations

from typing import Any

import numpy as np

from millwright.distributions.family import Parameter, Parameters, Support
from millwright.distributions.mathematics import Array, Mathematics
from millwright.distributions.modified import Modified, log_interval, parameters_of

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
            result = m.where(x >= p["high"], family.log_survival(m, p["high"], inner), result)
        return result

    def _between(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        """Replace censored values by ordinary ones, so that no unused branch overflows."""
        x = m.maximum(x, p["low"]) if "low" in p else x
        return m.minimum(x, p["high"]) if "high" in p else x

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
        base = self.families["of"].support(parameters_of("of", p))
        half = np.asarray(p["to"]) / 2
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

    def quantile(self, q: Array, p: Parameters) -> Array:
        return self._recorded(self.families["of"].quantile(q, parameters_of("of", p)), p)

    def _recorded(self, x: Array, p: Parameters) -> Array:
        return np.floor(np.asarray(x) / p["to"] + 0.5) * p["to"]

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return self._recorded(self.families["of"].draw(generator, size, parameters_of("of", p)), p)

    def mean(self, p: Parameters) -> Array:
        return self.families["of"].mean(parameters_of("of", p))
