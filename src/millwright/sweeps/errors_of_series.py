"""The errors of series: their covariance, how they lean on each other, and missing readings."""

from __future__ import annotations

import numpy as np

from millwright.subsets.compiling import compiled

__all__ = ["draw_covariance", "draw_gaps", "draw_leans", "errors_left"]


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
def errors_left(outcomes: np.ndarray, regressors: np.ndarray, path: np.ndarray) -> np.ndarray:
    """Return the errors of all times, (times, n)."""
    found = np.empty(outcomes.shape)
    for t in range(len(found)):
        _left(outcomes, regressors, path, t, found[t])
    return found


@compiled
def draw_covariance(
    left: np.ndarray,
    degrees: float,
    scatter: np.ndarray,
    generator: np.random.Generator,
    rows: np.ndarray,
    sizes: np.ndarray,
) -> None:
    """Draw a constant covariance of errors: inverse Wishart, by Bartlett (1933).

    Parameters
    ----------
    left
        Errors, (times, n).
    rows, sizes
        Written: what makes errors independent, (n, n), and their sds then, (1, n).
    """
    times, series = left.shape
    total = scatter.copy()
    for t in range(times):
        for i in range(series):
            for j in range(series):
                total[i, j] += left[t, i] * left[t, j]
    root = np.linalg.cholesky(total)
    lower = np.zeros((series, series))
    for i in range(series):
        lower[i, i] = np.sqrt(2 * generator.standard_gamma(0.5 * (degrees + times - i)))
        for j in range(i):
            lower[i, j] = generator.standard_normal()
    turned = root @ np.linalg.inv(lower).T
    factor = np.linalg.cholesky(turned @ turned.T)
    inverse = np.linalg.inv(factor)
    for i in range(series):
        sizes[0, i] = factor[i, i]
        for j in range(series):
            rows[i, j] = inverse[i, j] * factor[i, i] if j < i else 0.0
        rows[i, i] = 1.0


@compiled
def draw_leans(
    left: np.ndarray,
    sizes: np.ndarray,
    lean_scale: np.ndarray,
    generator: np.random.Generator,
    rows: np.ndarray,
) -> None:
    """Draw the slopes of each error on those before it, given the sds of what they leave.

    Parameters
    ----------
    left
        Errors, (times, n).
    sizes
        (times, n).
    lean_scale
        Sds of their normal priors around 0, (n, n).
    rows
        Written: the slopes with their signs turned, below a diagonal of ones.
    """
    times, series = left.shape
    for k in range(1, series):
        precision = np.zeros((k, k))
        pull = np.zeros(k)
        for i in range(k):
            precision[i, i] = 1 / lean_scale[k, i] ** 2
        for t in range(times):
            weight = 1 / sizes[t, k] ** 2
            for i in range(k):
                pull[i] += weight * left[t, i] * left[t, k]
                for j in range(k):
                    precision[i, j] += weight * left[t, i] * left[t, j]
        turn = np.linalg.inv(np.linalg.cholesky(precision))
        noise = np.empty(k)
        for i in range(k):
            noise[i] = generator.standard_normal()
        drawn = turn.T @ (turn @ pull + noise)
        for i in range(k):
            rows[k, i] = -drawn[i]


@compiled
def draw_gaps(
    lags: int,
    middle: np.ndarray,
    gap_time: np.ndarray,
    gap_series: np.ndarray,
    path: np.ndarray,
    rows: np.ndarray,
    sizes: np.ndarray,
    generator: np.random.Generator,
    outcomes: np.ndarray,
    regressors: np.ndarray,
) -> None:
    """Draw each missing reading given all others: it is an outcome once, and a regressor later."""
    times, series = outcomes.shape
    m = regressors.shape[1]
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
            for k in range(series):
                moved, error = 0.0, 0.0
                for j in range(k + 1):
                    moved += rows[k, j] * along[j]
                    error += rows[k, j] * left[j]
                weight = moved / sizes[min(at + later, len(sizes) - 1), k] ** 2
                precision += weight * moved
                pull -= weight * error
        value = outcomes[at, own] + pull / precision
        value += generator.standard_normal() / np.sqrt(precision)
        outcomes[at, own] = value
        for later in range(1, min(lags, times - 1 - at) + 1):
            regressors[at + later, 1 + (later - 1) * series + own] = value - middle[own]
