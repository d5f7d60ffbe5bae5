"""Evidence for or against a difference of means, from the t statistic alone.

Rouder, Speckman, Sun, Morey and Iverson (2009), "Bayesian t tests for accepting and rejecting the
null hypothesis", Psychonomic Bulletin and Review 16: normal data with one scale, flat on the mean
and on the logarithm of the scale, and a prior on the standardised effect. Given the effect the t
statistic has a noncentral t distribution, so that the Bayes factor is one integral over the
effect, for any prior of it; the integral over the scale is written out here since it stays exact
far out:

    f(t | effect) / f(t | 0) = exp(-df m^2 / (2 (t^2 + df))) I(m t / sqrt(t^2 + df)) / I(0),

with m = effect sqrt(size) and I(a) the integral of y^df exp(-(y - a)^2 / 2) over y > 0 (Johnson,
Kotz and Balakrishnan 1995, "Continuous Univariate Distributions" 2, eq. 31.15).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.special import gammaln, logsumexp

from millwright.studies.pieces import Rule, pieces

__all__ = ["LogPrior", "TStatistic", "log_factor", "log_ratio", "of_differences", "of_two_groups"]

_WIDTHS = 14.0
_NODES, _WEIGHTS = np.polynomial.legendre.leggauss(160)
_RULE = np.polynomial.legendre.leggauss(48)
_COARSER_RULE = np.polynomial.legendre.leggauss(32)
_AROUND = (-40.0, -12.0, -6.0, -3.0, -1.0, 1.0, 3.0, 6.0, 12.0, 40.0)
"""Beyond so many spreads from the observed effect nothing is left of the likelihood."""

LogPrior = Callable[[np.ndarray], np.ndarray]


@dataclass(frozen=True)
class TStatistic:
    """A t statistic, its degrees of freedom, and the size by which the effect counts.

    Attributes
    ----------
    size
        The noncentrality is effect * sqrt(size): n for one group, n1 n2 / (n1 + n2) for two.
    """

    t: float
    df: float
    size: float

    @property
    def effect(self) -> float:
        """The observed effect."""
        return self.t / float(np.sqrt(self.size))


def of_differences(values: np.ndarray, against: float) -> TStatistic:
    """Return the t statistic of one group against a value."""
    n = len(values)
    error = np.std(values, ddof=1) / np.sqrt(n)
    return TStatistic(float((values.mean() - against) / error), n - 1, n)


def of_two_groups(first: np.ndarray, second: np.ndarray) -> TStatistic:
    """Return the t statistic of second minus first, with one scale for both."""
    n, m = len(first), len(second)
    squares = np.sum((first - first.mean()) ** 2) + np.sum((second - second.mean()) ** 2)
    df, size = n + m - 2, n * m / (n + m)
    scale = np.sqrt(squares / df)
    return TStatistic(float((second.mean() - first.mean()) / scale * np.sqrt(size)), df, size)


def _log_integral(a: np.ndarray, df: float) -> np.ndarray:
    """Return log of the integral of y^df exp(-(y - a)^2 / 2) over y > 0.

    The integrand has one hump: Gauss-Legendre quadrature over it is exact to rounding.
    """
    root = np.sqrt(a**2 + 4 * df)
    # Without cancellation where a is far below zero.
    top = np.where(a > 0, 0.5 * (a + root), 2 * df / (root - np.minimum(a, 0)))
    width = 1 / np.sqrt(1 + df / top**2)
    low, high = np.maximum(top - _WIDTHS * width, 0.0), top + _WIDTHS * width
    half = 0.5 * (high - low)
    y = (low + half)[:, None] + half[:, None] * _NODES
    values = df * np.log(y) - 0.5 * (y - a[:, None]) ** 2
    return logsumexp(values, b=_WEIGHTS, axis=1) + np.log(half)


def log_ratio(found: TStatistic, effect: np.ndarray) -> np.ndarray:
    """Return the log density of the t statistic at effects, relative to that at no effect."""
    m = np.asarray(effect, dtype=float) * np.sqrt(found.size)
    total = found.t**2 + found.df
    a = m * found.t / np.sqrt(total)
    none = 0.5 * (found.df - 1) * np.log(2) + gammaln((found.df + 1) / 2)
    return -found.df * m**2 / (2 * total) + _log_integral(a, found.df) - none


def log_factor(
    found: TStatistic, log_prior: LogPrior, corners: Sequence[float]
) -> tuple[float, float]:
    """Return the log Bayes factor of an effect over none, and its numerical error.

    Parameters
    ----------
    log_prior
        Function from effects to the log density of their prior; minus infinity outside its range.
    corners
        Quantiles of the prior, from one end of its range to the other: between them and around
        the observed effect the integral is taken piece by piece.
    """
    spread = np.sqrt((1 + found.effect**2 * found.size / (2 * found.df)) / found.size)
    around = [found.effect + spread * k for k in _AROUND]
    ends = np.clip([corners[0], corners[-1]], around[0], around[-1])
    inside = {float(c) for c in (*corners, *around) if ends[0] < c < ends[1]}
    edges = np.array([ends[0], *sorted(inside), ends[1]])
    fine, coarse = (_integral(found, log_prior, edges, rule) for rule in (_RULE, _COARSER_RULE))
    return fine, abs(fine - coarse)


def _integral(found: TStatistic, log_prior: LogPrior, edges: np.ndarray, rule: Rule) -> float:
    effects, weights = pieces(edges, rule)
    with np.errstate(divide="ignore"):
        values = log_ratio(found, effects) + log_prior(effects)
    return float(logsumexp(values, b=weights))
