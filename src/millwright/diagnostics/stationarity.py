"""Whether chains had settled: first draws against last ones, and how much warm-up was needed."""

from __future__ import annotations

import numpy as np

from millwright.diagnostics.convergence import mean_error

__all__ = ["first_against_last", "settled_after"]

_STRETCH = 10
_WIDENED = 0.25


def first_against_last(x: np.ndarray, first: float = 0.1, last: float = 0.5) -> np.ndarray:
    """Compare the mean of each chain's first draws with that of its last ones.

    Geweke (1992), "Evaluating the accuracy of sampling-based approaches to the calculation of
    posterior moments", in Bayesian Statistics 4. Standard errors come from the effective sample
    size of each stretch.

    Parameters
    ----------
    x
        Draws of shape (chains, draws, quantities).
    first, last
        Shares of the draws that are compared.

    Returns
    -------
    Differences in standard errors, shape (chains, quantities); within 2 on either side for 95
    of 100 chains that had settled. NaN for fewer than 40 draws.
    """
    chains, draws, quantities = x.shape
    if draws < 40:
        return np.full((chains, quantities), np.nan)
    start, end = x[:, : int(first * draws)], x[:, draws - int(last * draws) :]
    found = np.empty((chains, quantities))
    for chain in range(chains):
        one, other = start[chain][None], end[chain][None]
        error = np.hypot(mean_error(one), mean_error(other))
        found[chain] = (one.mean(axis=1)[0] - other.mean(axis=1)[0]) / error
    return found


def settled_after(warmup: np.ndarray, kept: np.ndarray) -> np.ndarray:
    """Return how much of the warm-up each chain needed before it looked like the kept draws.

    A chain had settled once the mean of ten successive log densities stays within the range of
    such means of kept draws, widened by a quarter on each side: a longer stretch than the kept
    one would reach a little farther.

    Parameters
    ----------
    warmup, kept
        Log densities of shape (chains, transitions).

    Returns
    -------
    Number of transitions, shape (chains,); the length of the warm-up if a chain settled only
    after it.
    """
    chains, n = warmup.shape
    if n < _STRETCH or kept.shape[1] < _STRETCH:
        return np.full(chains, n)
    late = _running(kept)
    late = late[np.isfinite(late)]
    margin = _WIDENED * np.ptp(late)
    early = _running(warmup)
    outside = ~((early >= late.min() - margin) & (early <= late.max() + margin))
    last = early.shape[1] - 1 - np.argmax(outside[:, ::-1], axis=1)
    return np.where(outside.any(axis=1), last + _STRETCH, 0)


def _running(values: np.ndarray) -> np.ndarray:
    """Means of ten successive values of each chain."""
    windows = np.lib.stride_tricks.sliding_window_view(values, _STRETCH, axis=1)
    return np.asarray(windows.mean(axis=-1))
