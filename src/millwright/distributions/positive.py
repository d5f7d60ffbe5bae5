"""Distributions on positive numbers: exponential, gamma, inverse gamma, lognormal."""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy import special

from millwright.distributions.family import Family, Parameter, Parameters, Support
from millwright.distributions.location_scale import Normal
from millwright.distributions.mathematics import Array, Mathematics, log_diff_exp

__all__ = ["Exponential", "Gamma", "InverseGamma", "LogNormal"]

_SHAPE = Parameter("shape", "positive", "shape; large means close to symmetric")
_RATE = Parameter("rate", "positive", "inverse of the scale")


class _Positive(Family):
    def support(self, p: Parameters) -> Support:
        return Support(lower=0.0)


def _above_zero(m: Mathematics, x: Array) -> tuple[Array, Array]:
    """Return where x is above zero, and x with 1 elsewhere: an end of the support is no number."""
    positive = m.asarray(x) > 0
    return positive, m.where(positive, x, 1.0)


class Exponential(_Positive):
    """Exponential distribution with mean 1 / `rate`."""

    name = "exponential"
    summary = "decreasing from zero, with mean 1 / rate"
    parameters = (_RATE,)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return m.log(p["rate"]) - p["rate"] * x

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return log_diff_exp(m, 0.0 * m.asarray(x), self.log_survival(m, x, p))

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return -p["rate"] * m.maximum(x, 0.0)

    def quantile(self, q: Array, p: Parameters) -> Array:
        return -np.log1p(-np.asarray(q, dtype=float)) / p["rate"]

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        return -np.log(np.asarray(q, dtype=float)) / p["rate"]

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return generator.standard_exponential(size) / p["rate"]

    def mean(self, p: Parameters) -> Array:
        return 1.0 / np.asarray(p["rate"], dtype=float)


class Gamma(_Positive):
    """Gamma distribution with mean `shape` / `rate`."""

    name = "gamma"
    summary = "positive and right-skewed, with mean shape / rate"
    parameters = (_SHAPE, _RATE)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        shape, rate = m.asarray(p["shape"]), m.asarray(p["rate"])
        y = rate * x
        # The same function of shape - 1 and rate x as a Poisson probability.
        return m.log(rate) + m.log_poisson(shape - 1.0, y, m.log(rate) + m.log(x))

    def log_tails(self, m: Mathematics, x: Array, p: Parameters) -> tuple[Array, Array]:
        below, above = m.log_gamma_shares(p["shape"], p["rate"] * m.maximum(x, 0.0))
        return below, above

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return m.log_gammainc(p["shape"], p["rate"] * m.maximum(x, 0.0))

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return m.log_gammaincc(p["shape"], p["rate"] * m.maximum(x, 0.0))

    def quantile(self, q: Array, p: Parameters) -> Array:
        return special.gammaincinv(p["shape"], q) / p["rate"]

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        return special.gammainccinv(p["shape"], q) / p["rate"]

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return generator.standard_gamma(p["shape"], size) / p["rate"]

    def mean(self, p: Parameters) -> Array:
        return np.asarray(p["shape"], dtype=float) / p["rate"]


class InverseGamma(_Positive):
    """Distribution of 1 / X for X gamma with the same `shape` and rate `scale`."""

    name = "inverse_gamma"
    summary = "positive with a long right tail, with mean scale / (shape - 1)"
    parameters = (_SHAPE, Parameter("scale", "positive", "scale, in the quantity's own unit"))

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        shape, scale = m.asarray(p["shape"]), m.asarray(p["scale"])
        y = scale / x
        log_x = m.log(x)
        return m.log_poisson(shape - 1.0, y, m.log(scale) - log_x) + m.log(scale) - 2.0 * log_x

    def log_tails(self, m: Mathematics, x: Array, p: Parameters) -> tuple[Array, Array]:
        positive, x = _above_zero(m, x)
        below, above = m.log_gamma_shares(p["shape"], p["scale"] / x)
        return m.where(positive, above, -m.inf), m.where(positive, below, 0.0)

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        positive, x = _above_zero(m, x)
        return m.where(positive, m.log_gammaincc(p["shape"], p["scale"] / x), -m.inf)

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        positive, x = _above_zero(m, x)
        return m.where(positive, m.log_gammainc(p["shape"], p["scale"] / x), 0.0)

    def quantile(self, q: Array, p: Parameters) -> Array:
        return p["scale"] / special.gammainccinv(p["shape"], q)

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        return p["scale"] / special.gammaincinv(p["shape"], q)

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return p["scale"] / generator.standard_gamma(p["shape"], size)

    def mean(self, p: Parameters) -> Array:
        shape = np.asarray(p["shape"], dtype=float)
        return np.where(shape > 1, p["scale"] / np.where(shape > 1, shape - 1, 1.0), np.inf)


class LogNormal(_Positive):
    """Distribution of exp(X) for X normal with `location` and `scale`."""

    name = "lognormal"
    summary = "positive; its logarithm is normal with location and scale"
    parameters = (
        Parameter("location", "real", "mean of the logarithm", positional=True),
        Parameter("scale", "positive", "standard deviation of the logarithm", positional=True),
    )
    _normal = Normal()

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        log_x = m.log(x)
        return self._normal.log_density(m, log_x, p) - log_x

    def log_tails(self, m: Mathematics, x: Array, p: Parameters) -> tuple[Array, Array]:
        positive, x = _above_zero(m, x)
        below, above = self._normal.log_tails(m, m.log(x), p)
        return m.where(positive, below, -m.inf), m.where(positive, above, 0.0)

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self.log_tails(m, x, p)[0]

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self.log_tails(m, x, p)[1]

    def quantile(self, q: Array, p: Parameters) -> Array:
        return np.exp(self._normal.quantile(q, p))

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        return np.exp(self._normal.survival_quantile(q, p))

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return np.exp(self._normal.draw(generator, size, p))

    def mean(self, p: Parameters) -> Any:
        return np.exp(np.asarray(p["location"]) + np.asarray(p["scale"]) ** 2 / 2)
