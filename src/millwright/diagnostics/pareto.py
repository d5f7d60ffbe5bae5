"""The generalised Pareto distribution of what lies beyond a threshold, and how heavy tails are."""

from __future__ import annotations

import numpy as np
from scipy.special import logsumexp

__all__ = ["fit_pareto", "heavier_tail"]


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
    weights = np.exp(log_profile - logsumexp(log_profile))
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

    Returns
    -------
    k and (1 + k) / sqrt(draws in the tail), its large-sample standard error (Hosking and Wallis
    1987); zeros for fewer than 100 draws.
    """
    size = len(ordered)
    tail = size // 5
    if tail < 20:
        return 0.0, 0.0
    worst = 0.0
    for side in (ordered, -ordered[::-1]):
        excesses = side[-tail:] - side[-tail - 1]
        if excesses[0] > 0:
            worst = max(worst, fit_pareto(excesses)[0])
    return worst, (1 + worst) / np.sqrt(tail)
