"""Sequential Monte Carlo from the prior to the posterior, by powers of the likelihood.

Del Moral, Doucet and Jasra (2006), "Sequential Monte Carlo samplers", Journal of the Royal
Statistical Society B 68: particles are weighed, resampled and moved; the powers are chosen so that
half of the particles stay effective (Jasra et al. 2011). It starts from the prior, so it does not
share the blind spots of chains that all sit in one mode.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.optimize import brentq
from scipy.special import logsumexp

__all__ = [
    "LEAST_ERROR",
    "RUNS",
    "TOO_SMALL",
    "Annealed",
    "SplitValues",
    "annealed",
    "finite",
    "moved",
    "next_power",
    "resampled",
]

SplitValues = Callable[[np.ndarray], tuple[np.ndarray, np.ndarray]]
"""Log prior and log likelihood at positions of shape (n, dimension)."""

PARTICLES = 1000
RUNS = 4
_EFFECTIVE = 0.5
_ACCEPTANCE = 0.3
TOO_SMALL = 1.3
"""By how much the spread of few runs understates the error, as measured."""
LEAST_ERROR = 0.05
_MOST_POWERS = 400
_MOST_MOVES = 60


@dataclass(frozen=True, kw_only=True)
class Annealed:
    """The logarithm of an evidence by sequential Monte Carlo.

    Attributes
    ----------
    log_value, standard_error
        Mean over the runs, and its error from their spread.
    runs
        The estimate of each run.
    """

    log_value: float
    standard_error: float
    runs: tuple[float, ...]


def annealed(
    draw_prior: Callable[[np.random.Generator, int], np.ndarray],
    split: SplitValues,
    generator: np.random.Generator,
    particles: int = PARTICLES,
) -> Annealed:
    """Estimate a log evidence by four runs from the prior.

    Parameters
    ----------
    draw_prior
        `draw_prior(generator, n)` gives positions drawn from the prior, shape (n, dimension).
    split
        Log prior and log likelihood at positions.
    """
    runs = [_run(draw_prior, split, generator, particles) for _ in range(RUNS)]
    values = np.array(runs)
    error = max(LEAST_ERROR, TOO_SMALL * float(values.std(ddof=1)) / np.sqrt(RUNS))
    return Annealed(
        log_value=float(logsumexp(values) - np.log(RUNS)),
        standard_error=float(error),
        runs=tuple(runs),
    )


def _run(
    draw_prior: Callable[[np.random.Generator, int], np.ndarray],
    split: SplitValues,
    generator: np.random.Generator,
    particles: int,
) -> float:
    at = draw_prior(generator, particles)
    prior, likelihood = finite(*split(at))
    power, total = 0.0, 0.0
    size = 1.0
    for _ in range(_MOST_POWERS):
        following = next_power(likelihood, power)
        weights = (following - power) * likelihood
        total += float(logsumexp(weights) - np.log(particles))
        power = following
        which = resampled(weights, generator)
        at, prior, likelihood = at[which], prior[which], likelihood[which]
        at, prior, likelihood, size = moved(at, prior, likelihood, power, size, split, generator)
        if power >= 1.0:
            return total
    return -np.inf


def finite(prior: np.ndarray, likelihood: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return both with what is no number taken as impossible."""
    bad = np.isnan(prior) | np.isnan(likelihood) | (likelihood == np.inf)
    return np.where(bad, -np.inf, prior), np.where(bad, -1e300, np.maximum(likelihood, -1e300))


def next_power(likelihood: np.ndarray, power: float, weights: np.ndarray | float = 0.0) -> float:
    """Return the largest power, up to 1, at which half of the particles stay effective.

    `weights` are log weights that the particles have already.
    """

    def effective(following: float) -> float:
        logs = weights + (following - power) * likelihood
        return float(np.exp(2 * logsumexp(logs) - logsumexp(2 * logs)) / len(logs)) - _EFFECTIVE

    if effective(1.0) >= 0:
        return 1.0
    if effective(power + 1e-12) < 0:
        return min(1.0, power + 1e-9)
    return float(brentq(effective, power + 1e-12, 1.0, xtol=1e-12, rtol=1e-8))


def resampled(logs: np.ndarray, generator: np.random.Generator) -> np.ndarray:
    """Return which particles go on: systematic resampling."""
    shares = np.cumsum(np.exp(logs - logsumexp(logs)))
    places = (generator.random() + np.arange(len(logs))) / len(logs)
    return np.minimum(np.searchsorted(shares, places), len(logs) - 1)


def moved(
    at: np.ndarray,
    prior: np.ndarray,
    likelihood: np.ndarray,
    power: float,
    size: float,
    split: SplitValues,
    generator: np.random.Generator,
) -> tuple[np.ndarray, np.ndarray, np.ndarray, float]:
    """Take random-walk steps, in turn along differences of particles and in their covariance.

    Steps go on until most particles have moved several times. Differences of particles reach from
    one mode to another, where a covariance of all would only be wide.
    """
    count, dimension = at.shape
    spread = np.cov(at.T).reshape(dimension, dimension)
    factor = np.linalg.cholesky(spread + 1e-10 * np.diag(np.diag(spread) + 1e-300))
    usual = 2.38 / np.sqrt(dimension)
    taken_in_all = np.zeros(count)
    for turn in range(_MOST_MOVES):
        if turn % 2:
            one, other = generator.integers(count, size=(2, count))
            step = size * usual / np.sqrt(2) * (at[one] - at[other])
        else:
            step = size * usual * generator.standard_normal((count, dimension)) @ factor.T
        tried = at + step
        new_prior, new_likelihood = finite(*split(tried))
        ratio = new_prior - prior + power * (new_likelihood - likelihood)
        with np.errstate(over="ignore"):
            taken = generator.random(count) < np.exp(np.minimum(ratio, 0.0))
        at = np.where(taken[:, None], tried, at)
        prior = np.where(taken, new_prior, prior)
        likelihood = np.where(taken, new_likelihood, likelihood)
        size = float(np.clip(size * np.exp(0.5 * (taken.mean() - _ACCEPTANCE)), 1e-3, 3.0))
        taken_in_all += taken
        if taken_in_all.mean() >= 5 + dimension / 4:
            break
    return at, prior, likelihood, size
