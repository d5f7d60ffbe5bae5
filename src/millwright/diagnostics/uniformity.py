"""Whether shares between 0 and 1 are spread evenly, judged over their whole range at once.

Säilynoja, Bürkner and Vehtari (2022), "Graphical test for discrete uniformity and its applications
in goodness-of-fit evaluation and multiple sample comparison", Statistics and Computing 32.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from scipy.stats import binom

__all__ = ["even_band", "even_places", "even_probability"]

_COPIES = 10_000
_MOST_PLACES = 100


def even_places(size: int) -> np.ndarray:
    """Return the places at which the distribution function of `size` shares is looked at."""
    count = min(size, _MOST_PLACES)
    return np.arange(1, count) / count


def even_probability(shares: np.ndarray) -> float:
    """Return the p-value of shares being spread evenly: how often even ones stray as far.

    How far is the smallest tail probability of the counts below any place (their section 2.2);
    its distribution for even shares comes from 10,000 simulated samples.
    """
    smallest = _furthest(shares[None], len(shares))[0]
    return float((1 + np.sum(_even_ones(len(shares)) <= smallest)) / (_COPIES + 1))


def even_band(size: int, level: float = 0.95) -> tuple[np.ndarray, np.ndarray]:
    """Return the ends of the band that holds whole lines of even shares with a probability.

    Shares of the sample below each of `even_places(size)`.
    """
    tail = np.quantile(_even_ones(size), 1 - level)
    places = even_places(size)
    low = binom.ppf(tail / 2, size, places)
    return low / size, binom.isf(tail / 2, size, places) / size


def _furthest(shares: np.ndarray, size: int) -> np.ndarray:
    """Return the smallest two-sided tail probability of each sample, shape (samples,)."""
    places = even_places(size)
    below = np.stack([np.searchsorted(np.sort(row), places, side="right") for row in shares])
    counts = np.arange(size + 1)[:, None]
    low, high = binom.cdf(counts, size, places), binom.sf(counts - 1, size, places)
    at = (below, np.arange(len(places)))
    return np.asarray(2 * np.minimum(low[at], high[at]).min(axis=1, initial=1.0))


@lru_cache(maxsize=8)
def _even_ones(size: int) -> np.ndarray:
    shares = np.random.default_rng(size).random((_COPIES, size))
    return _furthest(shares, size)
