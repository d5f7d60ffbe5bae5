"""The covariance of errors, and readings that are missing."""

from __future__ import annotations

import numpy as np

from millwright.subsets.compiling import compiled

__all__ = ["draw_covariance", "draw_gaps"]


@compiled
def _left(
    outcomes: np.ndarray, regressors: np.ndarray, path: np.ndarray, t: int, left: np.ndarray
) -> None:
    """Write the errors of one time."""
    m = regressors.shape[1]
    for j in range(outcomes.shape[1]):
        left[j] = outcomes[t, j]
        for r in range(m):
            left[j] -= regressors[t, r] * path[t, j * m + r]


@compiled
def draw_covariance(
    outcomes: np.ndarray,
    regressors: np.ndarray,
    path: np.ndarray,
    degrees: float,
    scatter: np.ndarray,
    generator: np.random.Generator,
    covariance: np.ndarray,
) -> None:
    """Draw the covariance of errors: inverse Wishart, by the decomposition of Bartlett (1933)."""
    times, series = outcomes.shape
    total = scatter.copy()
    left = np.empty(series)
    for t in range(times):
        _left(outcomes, regressors, path, t, left)
        for i in range(series):
            for j in range(series):
                total[i, j] += left[i] * left[j]
    root = np.linalg.cholesky(total)
    lower = np.zeros((series, series))
    for i in range(series):
        lower[i, i] = np.sqrt(2 * generator.standard_gamma(0.5 * (degrees + times - i)))
        for j in range(i):
            lower[i, j] = generator.standard_normal()
    turned = root @ np.linalg.inv(lower).T
    found = turned @ turned.T
    for i in range(series):
        for j in range(series):
            covariance[i, j] = 0.5 * (found[i, j] + found[j, i])


@compiled
def draw_gaps(
    lags: int,
    middle: np.ndarray,
    gap_time: np.ndarray,
    gap_series: np.ndarray,
    path: np.ndarray,
    errors: np.ndarray,
    generator: np.random.Generator,
    outcomes: np.ndarray,
    regressors: np.ndarray,
) -> None:
    """Draw each missing reading given all others: it is an outcome once, and a regressor later."""
    times, series = outcomes.shape
    m = regressors.shape[1]
    inverse = np.linalg.inv(errors)
    left = np.empty(series)
    along = np.empty(series)
    for gap in range(len(gap_time)):
        at, own = gap_time[gap], gap_series[gap]
        precision, pull = 0.0, 0.0
        for later in range(min(lags, times - 1 - at) + 1):
            _left(outcomes, regressors, path, at + later, left)
            for j in range(series):
                if later == 0:
                    along[j] = 1.0 if j == own else 0.0
                else:
                    along[j] = -path[at + later, j * m + 1 + (later - 1) * series + own]
            for i in range(series):
                for j in range(series):
                    precision += along[i] * inverse[i, j] * along[j]
                    pull -= along[i] * inverse[i, j] * left[j]
        value = outcomes[at, own] + pull / precision
        value += generator.standard_normal() / np.sqrt(precision)
        outcomes[at, own] = value
        for later in range(1, min(lags, times - 1 - at) + 1):
            regressors[at + later, 1 + (later - 1) * series + own] = value - middle[own]
