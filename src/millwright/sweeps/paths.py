"""Whole paths of coefficients in one draw, given how far they step and the errors."""

from __future__ import annotations

import numpy as np

from millwright.subsets.compiling import compiled

__all__ = ["draw_path"]


@compiled
def draw_path(
    outcomes: np.ndarray,
    regressors: np.ndarray,
    start_mean: np.ndarray,
    start_variance: np.ndarray,
    step: np.ndarray,
    stretch: np.ndarray,
    rows: np.ndarray,
    sizes: np.ndarray,
    generator: np.random.Generator,
    path: np.ndarray,
    start: np.ndarray,
) -> None:
    """Draw the path of all coefficients from its distribution given the rest.

    The simulation smoother of Durbin and Koopman (2002): a path and readings are drawn from the
    model, and the path is corrected by the mean given the difference of readings, which needs
    one pass forward and one back. Readings are turned so that their errors are independent, and
    enter one by one (Koopman and Durbin 2000), which needs no inverse.

    Parameters
    ----------
    step
        Sds of steps; 0 for coefficients that stay.
    stretch
        What each step is longer by, (times, coefficients).
    rows, sizes
        What makes errors independent, (n, n), and their sds then, (times or 1, n).
    path, start
        Written: coefficients at each time, and before the first step.
    """
    times, series = outcomes.shape
    m = regressors.shape[1]
    count = series * m
    covariance = np.zeros((count, count))
    mean = np.zeros(count)
    gains = np.empty((times, series, count))
    spreads = np.empty((times, series))
    scaled = np.empty((times, series))
    weights = np.zeros(count)
    for a in range(count):
        start[a] = np.sqrt(start_variance[a]) * generator.standard_normal()
        covariance[a, a] = start_variance[a]
    for t in range(times):
        row = regressors[t]
        size = sizes[min(t, len(sizes) - 1)]
        for a in range(count):
            path[t, a] = start[a] if t == 0 else path[t - 1, a]
            if step[a] > 0:
                length = step[a] * stretch[t, a]
                path[t, a] += length * generator.standard_normal()
                covariance[a, a] += length**2
        for j in range(series):
            gain = gains[t, j]
            for b in range(count):
                gain[b] = 0.0
            # The drawn path and errors stand around 0: the prior's means come back at the end.
            left = -generator.standard_normal()
            for i in range(j + 1):
                turn = rows[j, i] / size[j]
                left += turn * outcomes[t, i]
                for r in range(m):
                    at = i * m + r
                    weight = turn * row[r]
                    weights[at] = weight
                    left -= weight * (path[t, at] + start_mean[at] + mean[at])
                    others = covariance[at]
                    for b in range(count):
                        gain[b] += weight * others[b]
            spread = 1.0
            for at in range((j + 1) * m):
                spread += weights[at] * gain[at]
            spreads[t, j] = spread
            scaled[t, j] = left / spread
            for a in range(count):
                mean[a] += gain[a] * scaled[t, j]
                share = gain[a] / spread
                own = covariance[a]
                for b in range(count):
                    own[b] -= share * gain[b]
    _correct(
        regressors,
        rows,
        sizes,
        gains,
        spreads,
        scaled,
        step,
        stretch,
        start_variance,
        path,
        start,
    )
    for a in range(count):
        start[a] += start_mean[a]
        for t in range(times):
            path[t, a] += start_mean[a]


@compiled
def _correct(
    regressors: np.ndarray,
    rows: np.ndarray,
    sizes: np.ndarray,
    gains: np.ndarray,
    spreads: np.ndarray,
    scaled: np.ndarray,
    step: np.ndarray,
    stretch: np.ndarray,
    start_variance: np.ndarray,
    path: np.ndarray,
    start: np.ndarray,
) -> None:
    """Add the smoothed mean of what the drawn path lacks."""
    times, series, count = gains.shape
    m = regressors.shape[1]
    pulls = np.empty((times, count))
    pull = np.zeros(count)
    for t in range(times - 1, -1, -1):
        size = sizes[min(t, len(sizes) - 1)]
        for j in range(series - 1, -1, -1):
            along = 0.0
            for a in range(count):
                along += gains[t, j, a] * pull[a]
            change = scaled[t, j] - along / spreads[t, j]
            for i in range(j + 1):
                turn = rows[j, i] / size[j]
                for r in range(m):
                    pull[i * m + r] += turn * regressors[t, r] * change
        for a in range(count):
            pulls[t, a] = pull[a]
    added = np.empty(count)
    for a in range(count):
        added[a] = start_variance[a] * pulls[0, a]
        start[a] += added[a]
    for t in range(times):
        for a in range(count):
            added[a] += (step[a] * stretch[t, a]) ** 2 * pulls[t, a]
            path[t, a] += added[a]
