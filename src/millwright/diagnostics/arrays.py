"""The steps that the diagnostics share: splitting, ranks, autocovariance.

Arrays of draws have shape (chains, draws, quantities) throughout this room.
"""

from __future__ import annotations

import numpy as np
from scipy.fft import irfft, next_fast_len, rfft
from scipy.special import ndtri

__all__ = ["autocovariance", "ranked_normal", "split_chains", "unusable"]


def split_chains(x: np.ndarray) -> np.ndarray:
    """Cut each chain into its first and second half; an odd draw in the middle is left out."""
    half = x.shape[1] // 2
    return np.concatenate([x[:, :half], x[:, x.shape[1] - half :]], axis=0)


def ranked_normal(x: np.ndarray) -> np.ndarray:
    """Replace draws by normal scores of their ranks over all chains (Vehtari et al. 2021, eq. 14).

    Ties get their average rank.
    """
    chains, draws, quantities = x.shape
    flat = x.reshape(chains * draws, quantities)
    ranks = np.empty_like(flat)
    for column in range(quantities):
        ranks[:, column] = _average_ranks(flat[:, column])
    scores = ndtri((ranks - 0.375) / (len(flat) + 0.25))
    return scores.reshape(x.shape)


def _average_ranks(values: np.ndarray) -> np.ndarray:
    order = np.argsort(values, kind="stable")
    ordered = values[order]
    first = np.flatnonzero(np.concatenate([[True], ordered[1:] != ordered[:-1]]))
    ends = np.append(first[1:], len(values))
    ranks = np.empty(len(values))
    ranks[order] = np.repeat((first + 1 + ends) / 2, ends - first)
    return ranks


def autocovariance(x: np.ndarray) -> np.ndarray:
    """Autocovariance of each chain at every lag, divided by the number of draws."""
    draws = x.shape[1]
    size = next_fast_len(2 * draws, real=True)
    spectrum = rfft(x - x.mean(axis=1, keepdims=True), n=size, axis=1)
    return irfft(np.abs(spectrum) ** 2, n=size, axis=1)[:, :draws] / draws


def unusable(x: np.ndarray) -> np.ndarray:
    """Return, for each quantity, whether it is constant or has draws that are not finite."""
    flat = x.reshape(-1, x.shape[-1])
    with np.errstate(invalid="ignore"):
        return ~np.isfinite(flat).all(axis=0) | (flat == flat[:1]).all(axis=0)
