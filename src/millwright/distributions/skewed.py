"""More shapes on the line and on positive numbers: logistic, Laplace, Gumbel, Weibull, Pareto."""

from __future__ import annotations

import math

import numpy as np
from scipy import special

from millwright.distributions.family import Family, Parameter, Parameters, Support
from millwright.distributions.location_scale import LOCATION, SCALE, standard
from millwright.distributions.mathematics import Array, Mathematics, log_diff_exp, softplus
from millwright.distributions.tails import log_one_minus_exp

__all__ = ["Gumbel", "Laplace", "Logistic", "Pareto", "Weibull"]

_SHAPE = Parameter("shape", "positive", "shape; smaller means a longer tail")


class Logistic(Family):
    """Logistic distribution: a bell curve whose tails fall off exponentially."""

    name = "logistic"
    summary = "bell curve with exponential tails around location"
    parameters = (LOCATION, SCALE)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        z = standard(x, p)
        return -softplus(m, z) - softplus(m, -z) - m.log(p["scale"])

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return -softplus(m, -standard(x, p))

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return -softplus(m, standard(x, p))

    def quantile(self, q: Array, p: Parameters) -> Array:
        return p["location"] + p["scale"] * special.logit(q)

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        return p["location"] - p["scale"] * special.logit(q)

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return p["location"] + p["scale"] * generator.logistic(size=size)

    def mean(self, p: Parameters) -> Array:
        return p["location"] + 0.0 * np.asarray(p["scale"])


class Laplace(Family):
    """Laplace distribution: exponential on both sides of `location`."""

    name = "laplace"
    summary = "a peak at location that falls off exponentially on both sides"
    parameters = (LOCATION, SCALE)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return -m.abs(standard(x, p)) - m.log(p["scale"]) - math.log(2)

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self._log_below(m, standard(x, p))

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self._log_below(m, -standard(x, p))

    def _log_below(self, m: Mathematics, z: Array) -> Array:
        upper = m.log1p(-0.5 * m.exp(-m.maximum(z, 0.0)))
        return m.where(z > 0, upper, m.where(z > 0, 0.0, z) - math.log(2))

    def quantile(self, q: Array, p: Parameters) -> Array:
        return p["location"] + p["scale"] * self._standard(np.asarray(q, dtype=float))

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        return p["location"] - p["scale"] * self._standard(np.asarray(q, dtype=float))

    def _standard(self, q: Array) -> Array:
        lower = np.log(2 * np.minimum(q, 0.5))
        return np.where(q < 0.5, lower, -np.log(2 * np.minimum(1 - q, 0.5)))

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return p["location"] + p["scale"] * generator.laplace(size=size)

    def mean(self, p: Parameters) -> Array:
        return p["location"] + 0.0 * np.asarray(p["scale"])


class Gumbel(Family):
    """Gumbel distribution of maxima: a steep left side and a long right tail."""

    name = "gumbel"
    summary = "largest of many values: steep on the left, a longer tail on the right"
    parameters = (LOCATION, SCALE)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        z = standard(x, p)
        return -z - m.exp(-z) - m.log(p["scale"])

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return -m.exp(-standard(x, p))

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        z = standard(x, p)
        # Far to the right log(1 - exp(-exp(-z))) is -z - exp(-z) / 2, and exp(-z) underflows.
        far = z > 30.0
        inside = m.where(far, 0.0, z)
        return m.where(far, -z, log_one_minus_exp(m, -m.exp(-inside)))

    def quantile(self, q: Array, p: Parameters) -> Array:
        return p["location"] - p["scale"] * np.log(-np.log(q))

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        return p["location"] - p["scale"] * np.log(-np.log1p(-np.asarray(q, dtype=float)))

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return p["location"] + p["scale"] * generator.gumbel(size=size)

    def mean(self, p: Parameters) -> Array:
        return p["location"] + np.euler_gamma * np.asarray(p["scale"])


class Weibull(Family):
    """Weibull distribution: P(X > x) = exp(-(x / scale)^shape)."""

    name = "weibull"
    summary = "waiting times whose risk rises (shape above 1) or falls with time"
    parameters = (
        Parameter("shape", "positive", "above 1 the risk rises with time, below 1 it falls"),
        Parameter("scale", "positive", "time by which 63 % have happened"),
    )

    def support(self, p: Parameters) -> Support:
        return Support(lower=0.0)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        shape, ratio = m.asarray(p["shape"]), x / p["scale"]
        power = m.xlogy(shape - 1, ratio)
        return m.log(shape) - m.log(p["scale"]) + power - m.exp(shape * m.log(ratio))

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return log_diff_exp(m, 0.0 * m.asarray(x), self.log_survival(m, x, p))

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        positive = m.asarray(x) > 0
        ratio = m.where(positive, x, 1.0) / p["scale"]
        return m.where(positive, -m.exp(p["shape"] * m.log(ratio)), 0.0)

    def quantile(self, q: Array, p: Parameters) -> Array:
        return p["scale"] * (-np.log1p(-np.asarray(q, dtype=float))) ** (1 / p["shape"])

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        return p["scale"] * (-np.log(np.asarray(q, dtype=float))) ** (1 / p["shape"])

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return p["scale"] * generator.standard_exponential(size) ** (1 / p["shape"])

    def mean(self, p: Parameters) -> Array:
        return p["scale"] * special.gamma(1 + 1 / np.asarray(p["shape"], dtype=float))


class Pareto(Family):
    """Pareto distribution: P(X > x) = (scale / x)^shape from `scale` upwards."""

    name = "pareto"
    summary = "a power-law tail from scale upwards"
    parameters = (_SHAPE, Parameter("scale", "positive", "smallest possible value"))

    def support(self, p: Parameters) -> Support:
        return Support(lower=p["scale"])

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        shape = m.asarray(p["shape"])
        return m.log(shape) + shape * m.log(p["scale"]) - (shape + 1) * m.log(x)

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return log_diff_exp(m, 0.0 * m.asarray(x), self.log_survival(m, x, p))

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return p["shape"] * m.log(p["scale"] / m.maximum(x, p["scale"]))

    def quantile(self, q: Array, p: Parameters) -> Array:
        log_survival = np.log1p(-np.asarray(q, dtype=float))
        return p["scale"] * np.exp(-log_survival / p["shape"])

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        return p["scale"] * np.asarray(q, dtype=float) ** (-1 / np.asarray(p["shape"]))

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return p["scale"] * np.exp(generator.standard_exponential(size) / p["shape"])

    def mean(self, p: Parameters) -> Array:
        shape = np.asarray(p["shape"], dtype=float)
        return np.where(shape > 1, p["scale"] * shape / np.where(shape > 1, shape - 1, 1), np.inf)
