"""Distributions on an interval: beta and uniform."""

from __future__ import annotations

import numpy as np
from scipy import special

from millwright.distributions.family import Family, Parameter, Parameters, Support
from millwright.distributions.mathematics import Array, Mathematics, log_of_share

__all__ = ["Beta", "Uniform"]


class Beta(Family):
    """Beta distribution with mean `alpha` / (`alpha` + `beta`)."""

    name = "beta"
    summary = "between 0 and 1, with mean alpha / (alpha + beta)"
    parameters = (
        Parameter("alpha", "positive", "weight of the upper end"),
        Parameter("beta", "positive", "weight of the lower end"),
    )

    def support(self, p: Parameters) -> Support:
        return Support(lower=0.0, upper=1.0)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        a, b = m.asarray(p["alpha"]), m.asarray(p["beta"])
        return m.xlogy(a - 1, x) + m.xlog1py(b - 1, -x) - m.betaln(a, b)

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        below, above = self._shares(m, x, p)
        return log_of_share(m, below, above)

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        below, above = self._shares(m, x, p)
        return log_of_share(m, above, below)

    def _shares(self, m: Mathematics, x: Array, p: Parameters) -> tuple[Array, Array]:
        """Probability below and above `x`, each exact where it is small."""
        x, a, b = _together(m, x, p)
        inside = m.minimum(m.maximum(x, 0.0), 1.0)
        return m.betainc(a, b, inside), m.betainc(b, a, 1 - inside)

    def quantile(self, q: Array, p: Parameters) -> Array:
        return special.betaincinv(p["alpha"], p["beta"], q)

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        return special.betainccinv(p["alpha"], p["beta"], q)

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return generator.beta(p["alpha"], p["beta"], size)

    def mean(self, p: Parameters) -> Array:
        return np.asarray(p["alpha"], dtype=float) / (np.asarray(p["alpha"]) + p["beta"])


def _together(m: Mathematics, x: Array, p: Parameters) -> tuple[Array, Array, Array]:
    """Return x, alpha and beta in one shape: the derivative rule of betainc needs it."""
    zero = 0.0 * (m.asarray(x) + p["alpha"] + p["beta"])
    return x + zero, p["alpha"] + zero, p["beta"] + zero


class Uniform(Family):
    """Uniform distribution between `low` and `high`."""

    name = "uniform"
    summary = "the same density everywhere between low and high"
    parameters = (
        Parameter("low", "real", "lower end"),
        Parameter("high", "real", "upper end"),
    )
    truncatable = False

    def support(self, p: Parameters) -> Support:
        return Support(lower=p["low"], upper=p["high"])

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return -m.log(p["high"] - p["low"]) + 0.0 * x

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        share = (x - p["low"]) / (p["high"] - p["low"])
        return m.log(m.minimum(m.maximum(share, 0.0), 1.0))

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        share = (p["high"] - x) / (p["high"] - p["low"])
        return m.log(m.minimum(m.maximum(share, 0.0), 1.0))

    def quantile(self, q: Array, p: Parameters) -> Array:
        return p["low"] + np.asarray(q) * (np.asarray(p["high"]) - p["low"])

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return p["low"] + generator.random(size) * (np.asarray(p["high"]) - p["low"])

    def mean(self, p: Parameters) -> Array:
        return (np.asarray(p["low"], dtype=float) + p["high"]) / 2
