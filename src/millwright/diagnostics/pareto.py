"""The generalised Pareto distribution of what lies beyond a threshold, and how heavy tails are."""

from __future__ import annotations

import numpy as np

__all__ = ["fit_pareto", "heavier_tail"]

_FEWEST = 20


def fit_pareto(excesses: np.ndarray) -> tuple[float, float]:
    """Fit a generalised Pareto distribution to sorted positive excesses.

    Zhang and Stephens (2009), "A new and efficient estimation method for the generalized Pareto
    distribution", Technometrics 51(3).

    Returns
    -------
    Shape k, pulled towards 0.5 by ten prior observations, and scale sigma.
    """
    n = len(excesses)
    m = 30 + int(np.sqrt(n))
    b = 1 - np.sqrt(m / (np.arange(1, m + 1) - 0.5))
    b = b / (3 * excesses[int(n / 4 + 0.5) - 1]) + 1 / excesses[-1]
    k = np.mean(np.log1p(-b[:, None] * excesses), axis=1)
    log_profile = n * (np.log(-b / k) - k - 1)
    weights = np.exp(log_profile - log_profile.max())
    weights = weights / weights.sum()
    b_mean = float(np.sum(b * weights))
    shape = float(np.mean(np.log1p(-b_mean * excesses)))
    scale = -shape / b_mean
    return (n * shape + 10 * 0.5) / (n + 10), scale


def heavier_tail(ordered: np.ndarray) -> tuple[float, float]:
    """Return the Pareto k of the heavier tail of sorted draws, and its standard error.

    Moments of order 1 / k and above do not exist: from 0.5 on there is no standard deviation,
    from 1 on no mean. The outermost fifth of all draws is fitted on each side: farther out
    samplers seldom go where it matters, and what they bring back is too little to judge by.
    Where a fifth spans a gap between two modes, the tail is that of the outer mode.

    Returns
    -------
    k and (1 + k) / sqrt(draws in the tail), its large-sample standard error (Hosking and Wallis
    1987); zeros for fewer than 100 draws.
    """
    tail = len(ordered) // 5
    if tail < _FEWEST:
        return 0.0, 0.0
    worst, error = 0.0, 1 / np.sqrt(tail)
    for side in (ordered, -ordered[::-1]):
        size = _after_gap(side[-tail - 1 :])
        excesses = side[-size:] - side[-size - 1]
        if size < _FEWEST or not excesses[0] > 0:
            continue
        k = fit_pareto(excesses)[0]
        if k > worst:
            worst, error = k, (1 + k) / np.sqrt(size)
    return worst, float(error)


def _after_gap(tail: np.ndarray) -> int:
    """Return how many of the sorted draws of a tail, but the first, are of one mode.

    A gap lies between modes if it is wider than half the interquartile range of the draws beyond
    it. In a heavy tail what lies beyond spreads ever wider instead.
    """
    size = len(tail) - 1
    at = np.arange(size - _FEWEST + 1)
    beyond = size - at
    middle = tail[at + 1 + 3 * beyond // 4] - tail[at + 1 + beyond // 4]
    gaps = np.flatnonzero(np.diff(tail)[at] > middle / 2)
    return size if not gaps.size else (size - int(gaps[-1])) // 2
