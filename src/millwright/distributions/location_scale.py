"""Distributions on the whole line: normal, Student-t, Cauchy."""

from __future__ import annotations

import math

import numpy as np
from scipy import special

from millwright.distributions.family import Family, Parameter, Parameters
from millwright.distributions.mathematics import Array, Mathematics
from millwright.distributions.tails import FAR, inverse_mills, log_one_minus_exp

__all__ = [
    "DF",
    "LOCATION",
    "SCALE",
    "Cauchy",
    "Normal",
    "StudentT",
    "log_t_tails",
    "standard",
]

LOCATION = Parameter("location", "real", "centre", positional=True)
SCALE = Parameter("scale", "positive", "spread, in the quantity's own unit", positional=True)
DF = Parameter("df", "positive", "degrees of freedom; small means heavy tails")

_LOG_ROOT_2PI = 0.5 * math.log(2 * math.pi)
_LEAST_FALL = 1e-6


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

    def log_density_beyond(
        self,
        m: Mathematics,
        x: Array,
        bound: Array,
        p: Parameters,
        sign: Array,
        end: Array | None = None,
    ) -> Array:
        """Log density at x given that it lies beyond a bound far out; sign 1 for above, -1 below.

        Density and tail each fall as exp(-z^2 / 2): their logarithms are told apart before they
        grow too large for it. With an `end` x lies between the bound and that.
        """
        z, edge = sign * standard(x, p), sign * standard(bound, p)
        apart = sign * (x - bound) / p["scale"]
        hazard = inverse_mills(m.maximum(edge, FAR))
        found = -0.5 * apart * (z + edge) - m.log(p["scale"]) + m.log(hazard)
        if end is None:
            return found
        last, width = sign * standard(end, p), sign * (end - bound) / p["scale"]
        beyond_end = inverse_mills(m.maximum(last, FAR))
        log_share = -0.5 * width * (edge + last) + m.log(hazard / beyond_end)
        # Within a width in which nothing falls, the logarithms differ by rounding alone.
        falls = log_share < -_LEAST_FALL
        inside = log_one_minus_exp(m, m.where(falls, log_share, -1.0))
        flat = m.log(m.where(falls, 1.0, width * hazard)) - 0.5 * width * edge
        return found - m.where(falls, inside, flat)

    def log_tails(self, m: Mathematics, x: Array, p: Parameters) -> tuple[Array, Array]:
        below, above = m.log_ndtr_tails(standard(x, p))
        return below, above

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


def _standard_t_quantile(df: Array, q: Array) -> Array:
    """Return quantiles of the standard Student-t; SciPy's has the wrong sign at q = 0."""
    q = np.asarray(q, dtype=float)
    return np.where(q <= 0, -np.inf, special.stdtrit(df, q))


def _standard_cauchy_quantile(q: Array) -> Array:
    """Return quantiles of the standard Cauchy; pi is rounded, so that its tangent is not 0."""
    q = np.asarray(q, dtype=float)
    with np.errstate(divide="ignore"):
        return np.where(q >= 1, np.inf, -1 / np.tan(np.pi * q))


def t_log_density(m: Mathematics, z: Array, df: Array) -> Array:
    """Log density of the standard Student-t distribution at `z`."""
    half = 0.5 * df
    # log1p keeps the tails exact for small z^2 / df, the beta function large df.
    return (
        -(half + 0.5) * _log1p_square(m, z, df) - 0.5 * m.log(df) - m.betaln(half, 0.5 + 0.0 * df)
    )


_HUGE, _TINY = 1e100, 1e-150


def _log1p_square(m: Mathematics, z: Array, df: Array) -> Array:
    """Return log(1 + z^2 / df), where z^2 may be too large a number."""
    huge = m.abs(z) > _HUGE
    inside = m.where(huge, 1.0, z)
    outside = m.abs(m.where(huge, z, _HUGE))
    return m.where(huge, 2.0 * m.log(outside) - m.log(df), m.log1p(inside * inside / df))


def log_t_tails(m: Mathematics, z: Array, df: Array) -> tuple[Array, Array]:
    """Logs of P(T < z) and P(T > z) of the standard Student-t distribution, exact in both tails.

    P(T > z) is half the share of a beta(df / 2, 1 / 2) variable below df / (df + z^2).
    """
    # Not by adding zeros: a number of degrees of freedom that is given would seem to vary, and
    # the derivative in it takes most of the time.
    z, df = m.broadcast_arrays(m.asarray(z), m.asarray(df))
    huge = m.abs(z) > _HUGE
    # From |z|, so that both tails of a point are one computation.
    # Off zero, where the square has no derivative but the share has.
    inside = m.where(huge, 1.0, m.where(z >= 0, z, -z) + _TINY)
    square = inside * inside
    share = m.log_betainc(0.5 * df, m.asarray(0.5), df / (df + square), square / (df + square))
    # Far out the share is its leading term (df / z^2)^(df / 2) / (df / 2 B(df / 2, 1 / 2)).
    outside = m.abs(m.where(huge, z, _HUGE))
    half = 0.5 * df
    leading = half * (m.log(df) - 2.0 * m.log(outside)) - m.log(half)
    leading = leading - m.betaln(half, m.asarray(0.5))
    upper = m.where(huge, leading, share) - math.log(2.0)
    rest = log_one_minus_exp(m, upper)
    return m.where(z >= 0, rest, upper), m.where(z >= 0, upper, rest)


class StudentT(Family):
    """Student-t distribution around `location` with scale `scale` and `df` degrees of freedom."""

    name = "student_t"
    summary = "bell curve with heavy tails; the smaller df, the heavier"
    parameters = (LOCATION, SCALE, DF)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return t_log_density(m, standard(x, p), m.asarray(p["df"])) - m.log(p["scale"])

    def log_tails(self, m: Mathematics, x: Array, p: Parameters) -> tuple[Array, Array]:
        return log_t_tails(m, standard(x, p), p["df"])

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self.log_tails(m, x, p)[0]

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self.log_tails(m, x, p)[1]

    def quantile(self, q: Array, p: Parameters) -> Array:
        return p["location"] + p["scale"] * _standard_t_quantile(p["df"], q)

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        return p["location"] - p["scale"] * _standard_t_quantile(p["df"], q)

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
        return -_log1p_square(m, z, 1.0) - m.log(p["scale"]) - math.log(math.pi)

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self._log_tail(m, -standard(x, p))

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self._log_tail(m, standard(x, p))

    def _log_tail(self, m: Mathematics, z: Array) -> Array:
        # arctan2(1, z) is the angle from the far side: no cancellation in the upper tail.
        return m.log(m.arctan2(1.0, z) / m.pi)

    def quantile(self, q: Array, p: Parameters) -> Array:
        return p["location"] + p["scale"] * _standard_cauchy_quantile(q)

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        return p["location"] - p["scale"] * _standard_cauchy_quantile(q)

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return p["location"] + p["scale"] * generator.standard_cauchy(size)

    def mean(self, p: Parameters) -> Array:
        return np.nan * (p["location"] + p["scale"])
