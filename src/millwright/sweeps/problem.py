"""What a sweep works on: series with their regressors, and priors."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

__all__ = ["Kept", "Problem", "State", "begun", "room"]


class Problem(NamedTuple):
    """Series, regressors and priors.

    Each equation has the same regressors; coefficient `j * m + r` is that of regressor r in
    equation j.

    Attributes
    ----------
    lags
        How many; regressors 1 to n lags are the series before, the last time first.
    middle
        From where lagged readings are counted, (n,).
    outcomes
        Readings, (times, n); where missing any number.
    regressors
        (times, m): 1, lagged readings less the middle, other columns.
    gap_time, gap_series
        Where readings are missing, (gaps,).
    start_mean, start_variance
        Of the normal prior of coefficients before the first step, (n m,).
    step_scale
        Of the half-normal prior of the sds of steps, (n m,); 0 for those that never move.
    degrees, scatter
        Of the inverse-Wishart prior of the covariance of errors.
    """

    lags: int
    middle: np.ndarray
    outcomes: np.ndarray
    regressors: np.ndarray
    gap_time: np.ndarray
    gap_series: np.ndarray
    start_mean: np.ndarray
    start_variance: np.ndarray
    step_scale: np.ndarray
    degrees: float
    scatter: np.ndarray


class State(NamedTuple):
    """Where a chain stands.

    Attributes
    ----------
    path
        Coefficients at each time, (times, n m).
    start
        Before the first step, (n m,).
    step
        Sds of steps, (n m,).
    covariance
        Of errors, (n, n).
    outcomes, regressors
        As of the problem, with drawn values in gaps.
    """

    path: np.ndarray
    start: np.ndarray
    step: np.ndarray
    covariance: np.ndarray
    outcomes: np.ndarray
    regressors: np.ndarray


class Kept(NamedTuple):
    """Draws of one chain, each with the draws as its first axis."""

    path: np.ndarray
    start: np.ndarray
    step: np.ndarray
    covariance: np.ndarray
    gaps: np.ndarray


@dataclass(frozen=True)
class _Sizes:
    times: int
    series: int
    coefficients: int


def _sizes(problem: Problem) -> _Sizes:
    times, series = problem.outcomes.shape
    return _Sizes(times, series, len(problem.start_mean))


def begun(problem: Problem, generator: np.random.Generator) -> State:
    """Return a starting point: drawn around the prior, errors as wide as the prior has them."""
    size = _sizes(problem)
    width = np.exp(generator.normal(scale=0.5, size=size.series))
    wide = problem.scatter / max(problem.degrees - size.series - 1, 1.0)
    step = problem.step_scale * np.exp(generator.normal(scale=0.5, size=size.coefficients))
    path = np.tile(problem.start_mean, (size.times, 1))
    return State(
        path=path,
        start=problem.start_mean.copy(),
        step=0.5 * step,
        covariance=wide * np.outer(width, width),
        outcomes=problem.outcomes.copy(),
        regressors=problem.regressors.copy(),
    )


def room(problem: Problem, draws: int) -> Kept:
    """Return empty arrays for the draws of a chain."""
    size = _sizes(problem)
    return Kept(
        path=np.empty((draws, size.times, size.coefficients)),
        start=np.empty((draws, size.coefficients)),
        step=np.empty((draws, size.coefficients)),
        covariance=np.empty((draws, size.series, size.series)),
        gaps=np.empty((draws, len(problem.gap_time))),
    )
