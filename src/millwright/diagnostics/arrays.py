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
    # One quantity a row, so that each sort runs over neighbouring memory.
    flat = np.ascontiguousarray(x.reshape(chains * draws, quantities).T)
    order = np.argsort(flat, axis=1)
    ordered = np.take_along_axis(flat, order, axis=1)
    scores = np.empty_like(flat)
    every_rank = _score(np.arange(1, flat.shape[1] + 1), flat.shape[1])
    np.put_along_axis(scores, order, np.broadcast_to(every_rank, flat.shape), axis=1)
    for row in np.flatnonzero((ordered[:, 1:] == ordered[:, :-1]).any(axis=1)):
        scores[row] = _score(_average_ranks(ordered[row], order[row]), flat.shape[1])
    return scores.T.reshape(x.shape)


def _score(ranks: np.ndarray, size: int) -> np.ndarray:
    return ndtri((ranks - 0.375) / (size + 0.25))


def _average_ranks(ordered: np.ndarray, order: np.ndarray) -> np.ndarray:
    first = np.flatnonzero(np.concatenate([[True], ordered[1:] != ordered[:-1]]))
    ends = np.append(first[1:], len(ordered))
    ranks = np.empty(len(ordered))
    ranks[order] = np.repeat((first + 1 + ends) / 2, ends - first)
    return ranks


def autocovariance(x: np.ndarray) -> np.ndarray:
    """Autocovariance of each chain at every lag, divided by the number of draws.

    Returns shape (chains, quantities, lags): the transform runs over neighbouring memory.
    """
    draws = x.shape[1]
    size = next_fast_len(2 * draws, real=True)
    centred = np.ascontiguousarray((x - x.mean(axis=1, keepdims=True)).transpose(0, 2, 1))
    spectrum = rfft(centred, n=size, axis=-1)
    power = spectrum.real**2 + spectrum.imag**2
    return irfft(power, n=size, axis=-1)[..., :draws] / draws


def unusable(x: np.ndarray) -> np.ndarray:
    """Return, for each quantity, whether it is constant or has draws that are not finite."""
    flat = x.reshape(-1, x.shape[-1])
    with np.errstate(invalid="ignore"):
        return ~np.isfinite(flat).all(axis=0) | (flat == flat[:1]).all(axis=0)
