"""Pareto smoothing of importance weights.

Vehtari, Simpson, Gelman, Yao and Gabry (2024), "Pareto smoothed importance sampling", JMLR 25.
"""

from __future__ import annotations

import numpy as np

from millwright.diagnostics.pareto import fit_pareto

__all__ = ["highest_good_k", "smoothed_log_weights"]

_ALIKE = 1e-13
"""Differences of ratios, of which the largest is 1, that are nothing but rounding."""


def highest_good_k(draws: int) -> float:
    """Return the largest Pareto k with a reliable estimate: min(1 - 1 / log10(draws), 0.7)."""
    return float(min(1 - 1 / np.log10(draws), 0.7))


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
    too short to fit, and 0 where the largest ratios are all alike: they are bounded.
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
        if excesses[-1] <= _ALIKE:
            k = 0.0
        elif excesses[0] >= 0:
            k, scale = fit_pareto(np.maximum(excesses, np.finfo(float).tiny))
            if np.isfinite(k):
                quantiles = _quantiles((np.arange(1, tail + 1) - 0.5) / tail, k, scale)
                log_weights = log_weights.copy()
                log_weights[at] = np.minimum(np.log(quantiles + np.exp(cut)), 0.0)
    # The largest is 0 or little less: nothing can overflow or vanish.
    return log_weights - np.log(np.sum(np.exp(log_weights))), float(k)


def _quantiles(p: np.ndarray, k: float, scale: float) -> np.ndarray:
    if abs(k) < 1e-12:
        return -scale * np.log1p(-p)
    return scale * np.expm1(-k * np.log1p(-p)) / k
