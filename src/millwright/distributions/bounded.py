"""Distributions on an interval: beta and uniform."""

from __future__ import annotations

import numpy as np
from scipy import special

from millwright.distributions.family import Family, Parameter, Parameters, Support
from millwright.distributions.mathematics import Array, Mathematics
from millwright.distributions.saddle_point import LARGE

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
        plain = m.xlogy(a - 1, x) + m.xlog1py(b - 1, -x) - m.betaln(a, b)
        big = (a > LARGE + 1.0) & (b > LARGE + 1.0)

        def saddle() -> Array:
            # Of large arguments the plain terms cancel (Loader 2000).
            up, down = m.where(big, a, LARGE + 2.0), m.where(big, b, LARGE + 2.0)
            inside = m.where(big & (x > 0) & (x < 1), x, 0.5)
            logs = m.log(inside), m.log1p(-inside)
            return m.log(up + down - 1.0) + m.log_large_binomial(up - 1.0, down - 1.0, *logs)

        return m.replaced(plain, big, saddle)

    def log_tails(self, m: Mathematics, x: Array, p: Parameters) -> tuple[Array, Array]:
        inside = m.minimum(m.maximum(x, 0.0), 1.0)
        below, above = m.log_beta_shares(p["alpha"], p["beta"], inside, 1.0 - inside)
        return below, above

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        inside = m.minimum(m.maximum(x, 0.0), 1.0)
        return m.log_betainc(p["alpha"], p["beta"], inside, 1.0 - inside)

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        inside = m.minimum(m.maximum(x, 0.0), 1.0)
        return m.log_betainc(p["beta"], p["alpha"], 1.0 - inside, inside)

    def quantile(self, q: Array, p: Parameters) -> Array:
        return special.betaincinv(p["alpha"], p["beta"], q)

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        return special.betainccinv(p["alpha"], p["beta"], q)

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return generator.beta(p["alpha"], p["beta"], size)

    def mean(self, p: Parameters) -> Array:
        return np.asarray(p["alpha"], dtype=float) / (np.asarray(p["alpha"]) + p["beta"])


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
