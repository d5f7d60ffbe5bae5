"""Pareto smoothing of importance weights.

Vehtari, Simpson, Gelman, Yao and Gabry (2024), "Pareto smoothed importance sampling", JMLR 25;
the generalised Pareto fit is that of Zhang and Stephens (2009), Technometrics 51(3).
"""

from __future__ import annotations

import numpy as np
from scipy.special import logsumexp

__all__ = ["fit_pareto", "highest_good_k", "smoothed_log_weights"]


def highest_good_k(draws: int) -> float:
    """Return the largest Pareto k with a reliable estimate: min(1 - 1 / log10(draws), 0.7)."""
    return float(min(1 - 1 / np.log10(draws), 0.7))


def fit_pareto(excesses: np.ndarray) -> tuple[float, float]:
    """Fit a generalised Pareto distribution to sorted positive excesses.

    Returns shape k, pulled towards 0.5 by ten prior observations, and scale sigma.
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


def smoothed_log_weights(
    log_ratios: np.ndarray, ess_share: float = 1.0
) -> tuple[np.ndarray, float]:
    """Smooth the largest importance ratios of one row.

    Parameters
    ----------
    log_ratios
        Logarithms of the importance ratios up to a constant, shape (draws,).
    ess_share
        Effective over actual number of draws; fewer effective draws mean a longer tail.

    Returns
    -------
    Normalised log weights, shape (draws,), and the Pareto k. k is infinite where the tail is
    too short to fit.
    """
    size = len(log_ratios)
    log_weights = log_ratios - log_ratios.max()
    tail = int(np.ceil(min(0.2 * size, 3 * np.sqrt(size / min(max(ess_share, 1e-3), 1.0)))))
    k = np.inf
    if tail >= 5 and size > tail:
        largest = np.argpartition(log_weights, size - tail - 1)[size - tail - 1 :]
        largest = largest[np.argsort(log_weights[largest])]
        at, cut = largest[1:], log_weights[largest[0]]
        cut = max(cut, np.log(np.finfo(float).tiny))
        excesses = np.exp(log_weights[at]) - np.exp(cut)
        if excesses[0] >= 0 and excesses[-1] > 10 * np.finfo(float).tiny:
            k, scale = fit_pareto(np.maximum(excesses, np.finfo(float).tiny))
            if np.isfinite(k):
                quantiles = _quantiles((np.arange(1, tail + 1) - 0.5) / tail, k, scale)
                log_weights = log_weights.copy()
                log_weights[at] = np.minimum(np.log(quantiles + np.exp(cut)), 0.0)
    return log_weights - logsumexp(log_weights), float(k)


def _quantiles(p: np.ndarray, k: float, scale: float) -> np.ndarray:
    if abs(k) < 1e-12:
        return -scale * np.log1p(-p)
    return scale * np.expm1(-k * np.log1p(-p)) / k
