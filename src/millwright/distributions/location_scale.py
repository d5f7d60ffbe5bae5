"""Distributions on the whole line: normal, Student-t, Cauchy."""

from __future__ import annotations

import math

import numpy as np
from scipy import special

from millwright.distributions.family import Family, Parameter, Parameters
from millwright.distributions.mathematics import Array, Mathematics

__all__ = ["DF", "LOCATION", "SCALE", "Cauchy", "Normal", "StudentT", "standard", "t_tail"]

LOCATION = Parameter("location", "real", "centre", positional=True)
SCALE = Parameter("scale", "positive", "spread, in the quantity's own unit", positional=True)
DF = Parameter("df", "positive", "degrees of freedom; small means heavy tails")

_LOG_ROOT_2PI = 0.5 * math.log(2 * math.pi)


def standard(x: Array, p: Parameters) -> Array:
    """Return `x` in units of the scale, from the location."""
    return (x - p["location"]) / p["scale"]


class Normal(Family):
    """Normal distribution with mean `location` and standard deviation `scale`."""

    name = "normal"
    summary = "bell curve around location, with standard deviation scale"
    parameters = (LOCATION, SCALE)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        z = standard(x, p)
        return -0.5 * z * z - m.log(p["scale"]) - _LOG_ROOT_2PI

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return m.log_ndtr(standard(x, p))

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return m.log_ndtr(-standard(x, p))

    def quantile(self, q: Array, p: Parameters) -> Array:
        return p["location"] + p["scale"] * special.ndtri(q)

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        return p["location"] - p["scale"] * special.ndtri(q)

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return p["location"] + p["scale"] * generator.standard_normal(size)

    def mean(self, p: Parameters) -> Array:
        return p["location"] + 0.0 * p["scale"]


def t_log_density(m: Mathematics, z: Array, df: Array) -> Array:
    """Log density of the standard Student-t distribution at `z`."""
    half = 0.5 * df
    # log1p keeps the tails exact for small z^2 / df, the beta function large df.
    return -(half + 0.5) * m.log1p(z * z / df) - 0.5 * m.log(df) - m.betaln(half, 0.5 + 0.0 * df)


def t_tail(m: Mathematics, z: Array, df: Array) -> Array:
    """P(T > z) of the standard Student-t distribution, exact in the upper tail."""
    z, df = m.asarray(z) + 0.0 * df, df + 0.0 * m.asarray(z)
    square = z * z
    far = square > df
    half = 0.5 * df
    one_half = 0.5 + 0.0 * df
    # I_x(a, b) = 1 - I_(1-x)(b, a): the small side is computed on its own.
    beyond = m.betainc(half, one_half, df / (df + m.where(far, square, 1.0)))
    within = 1.0 - m.betainc(one_half, half, square / (df + m.where(far, 0.0, square)) * ~far)
    upper = 0.5 * m.where(far, beyond, within)
    return m.where(z >= 0, upper, 1.0 - upper)


class StudentT(Family):
    """Student-t distribution around `location` with scale `scale` and `df` degrees of freedom."""

    name = "student_t"
    summary = "bell curve with heavy tails; the smaller df, the heavier"
    parameters = (LOCATION, SCALE, DF)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return t_log_density(m, standard(x, p), m.asarray(p["df"])) - m.log(p["scale"])

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return m.log(t_tail(m, -standard(x, p), p["df"]))

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return m.log(t_tail(m, standard(x, p), p["df"]))

    def quantile(self, q: Array, p: Parameters) -> Array:
        return p["location"] + p["scale"] * special.stdtrit(p["df"], q)

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        return p["location"] - p["scale"] * special.stdtrit(p["df"], q)

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return p["location"] + p["scale"] * generator.standard_t(p["df"], size)

    def mean(self, p: Parameters) -> Array:
        return np.where(np.asarray(p["df"]) > 1, p["location"] + 0.0 * p["scale"], np.nan)


class Cauchy(Family):
    """Cauchy distribution: a Student-t with one degree of freedom; it has no mean."""

    name = "cauchy"
    summary = "very heavy tails around location; it has no mean"
    parameters = (LOCATION, SCALE)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        z = standard(x, p)
        return -m.log1p(z * z) - m.log(p["scale"]) - math.log(math.pi)

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self._log_tail(m, -standard(x, p))

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self._log_tail(m, standard(x, p))

    def _log_tail(self, m: Mathematics, z: Array) -> Array:
        # arctan2(1, z) is the angle from the far side: no cancellation in the upper tail.
        return m.log(m.arctan2(1.0, z) / m.pi)

    def quantile(self, q: Array, p: Parameters) -> Array:
        return p["location"] - p["scale"] / np.tan(np.pi * np.asarray(q, dtype=float))

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        return p["location"] + p["scale"] / np.tan(np.pi * np.asarray(q, dtype=float))

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return p["location"] + p["scale"] * generator.standard_cauchy(size)

    def mean(self, p: Parameters) -> Array:
        return np.nan * (p["location"] + p["scale"])
