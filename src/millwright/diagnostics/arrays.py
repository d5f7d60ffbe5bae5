"""The steps that the diagnostics share: blocks of quantities, splitting, ranks, autocovariance.

Outside this room arrays of draws have shape (chains, draws, quantities). Inside, a block of
quantities has shape (quantities, chains, draws): each step then runs over neighbouring memory,
and a block is small enough to stay in a processor's cache.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import cached_property
from typing import TypeVar

import numpy as np
from scipy.fft import next_fast_len
from scipy.special import ndtri

from millwright.cores import available_cores

__all__ = [
    "QuantityBlock",
    "autocovariance",
    "by_blocks",
    "first_autocovariances",
    "ranked_normal",
    "split_chains",
]

_NUMBERS_A_BLOCK = 2**18
_MOST_THREADS = 4

Result = TypeVar("Result")


class QuantityBlock:
    """Draws of some quantities, shape (quantities, chains, draws), with what is asked of them.

    Attributes
    ----------
    flat
        All chains together, shape (quantities, chains * draws).
    """

    def __init__(self, x: np.ndarray) -> None:
        self.x = np.ascontiguousarray(x, dtype=float)
        self.flat = self.x.reshape(len(self.x), -1)

    @cached_property
    def places(self) -> np.ndarray:
        """Places, in the whole block, of each quantity's draws from the smallest up."""
        return _whole_places(np.argsort(self.flat, axis=1))

    @cached_property
    def ordered(self) -> np.ndarray:
        """Sorted draws of each quantity."""
        return self.flat.reshape(-1).take(self.places)

    @cached_property
    def scores(self) -> np.ndarray:
        """Normal scores of the ranks over all chains, shape as `x`."""
        return _scores(self.places, self.ordered).reshape(self.x.shape)

    @cached_property
    def folded_scores(self) -> np.ndarray:
        """Normal scores of the ranks of the distances from the median, shape as `x`."""
        distances = np.abs(self.ordered - self.quantile(0.5)[:, None])
        # They fall, then rise: a merge of two runs, which a stable sort makes use of.
        again = _whole_places(np.argsort(distances, axis=1, kind="stable"))
        places = self.places.reshape(-1).take(again)
        return _scores(places, distances.reshape(-1).take(again)).reshape(self.x.shape)

    @cached_property
    def finite(self) -> np.ndarray:
        """Whether all draws of each quantity are finite."""
        return np.isfinite(self.flat).all(axis=1)

    @cached_property
    def unusable(self) -> np.ndarray:
        """Whether each quantity is constant or has draws that are not finite."""
        return ~self.finite | (self.flat == self.flat[:, :1]).all(axis=1)

    def quantile(self, probability: float) -> np.ndarray:
        """Quantile of each quantity over all chains (Hyndman and Fan 1996, definition 7)."""
        at = probability * (self.ordered.shape[1] - 1)
        below, above = self.ordered[:, math.floor(at)], self.ordered[:, math.ceil(at)]
        return np.asarray(below + (at - math.floor(at)) * (above - below))


def by_blocks(
    x: np.ndarray | Sequence[np.ndarray], compute: Callable[[QuantityBlock], Result]
) -> list[Result]:
    """Compute something for blocks of quantities, side by side in threads.

    Parameters
    ----------
    x
        Draws of shape (chains, draws, quantities), or a sequence with an array of shape
        (chains, draws) for each quantity.
    """
    shape = x.shape[:2] if isinstance(x, np.ndarray) else x[0].shape
    count = x.shape[-1] if isinstance(x, np.ndarray) else len(x)
    size = max(1, _NUMBERS_A_BLOCK // max(1, shape[0] * shape[1]))

    def one(at: int) -> Result:
        part = (
            np.moveaxis(x[..., at : at + size], -1, 0)
            if isinstance(x, np.ndarray)
            else np.stack(x[at : at + size])
        )
        with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
            return compute(QuantityBlock(part))

    starts = range(0, max(count, 1), size)
    threads = min(len(starts), _MOST_THREADS, available_cores())
    if threads == 1:
        return [one(at) for at in starts]
    with ThreadPoolExecutor(threads) as pool:
        return list(pool.map(one, starts))


def split_chains(x: np.ndarray) -> np.ndarray:
    """Cut each chain into its first and second half; an odd draw in the middle is left out.

    From shape (quantities, chains, draws) to (quantities, 2 * chains, draws // 2).
    """
    quantities, chains, draws = x.shape
    half = draws // 2
    if draws % 2:
        x = np.concatenate([x[..., :half], x[..., draws - half :]], axis=-1)
    return x.reshape(quantities, 2 * chains, half)


def ranked_normal(flat: np.ndarray) -> np.ndarray:
    """Replace draws by normal scores of their ranks (Vehtari et al. 2021, eq. 14).

    Shape (quantities, draws of all chains). Ties get their average rank.
    """
    places = _whole_places(np.argsort(flat, axis=1))
    return _scores(places, flat.reshape(-1).take(places))


def _whole_places(order: np.ndarray) -> np.ndarray:
    """Turn places within rows into places within the whole array: one index is taken faster."""
    rows, size = order.shape
    return order + size * np.arange(rows)[:, None]


def _scores(places: np.ndarray, ordered: np.ndarray) -> np.ndarray:
    size = ordered.shape[1]
    in_order = np.tile(_score(np.arange(1, size + 1), size), (len(ordered), 1))
    ties = ordered[:, 1:] == ordered[:, :-1]
    for row in np.flatnonzero(ties.any(axis=1)):
        tied, average = _average_ranks(ties[row])
        in_order[row, tied] = _score(average, size)
    scores = np.empty(ordered.size)
    scores[places] = in_order
    return scores.reshape(ordered.shape)


def _score(ranks: np.ndarray, size: int) -> np.ndarray:
    return ndtri((ranks - 0.375) / (size + 0.25))


def _average_ranks(ties: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return the places of values that have an equal neighbour, and their average ranks."""
    edges = np.diff(ties, prepend=False, append=False)
    first, last = np.flatnonzero(edges).reshape(-1, 2).T
    lengths = last - first + 1
    within = np.arange(lengths.sum()) - np.repeat(np.cumsum(lengths) - lengths, lengths)
    return np.repeat(first, lengths) + within, np.repeat((first + last) / 2 + 1, lengths)


def first_autocovariances(x: np.ndarray, lags: int) -> np.ndarray:
    """Autocovariances of lag 0 to `lags` - 1, as `autocovariance` gives them for all lags."""
    draws = x.shape[-1]
    x = x - x.mean(axis=-1, keepdims=True)
    sums = [np.vecdot(x[..., : draws - lag], x[..., lag:]).mean(axis=-1) for lag in range(lags)]
    return np.stack(sums, axis=-1) / draws


def autocovariance(x: np.ndarray) -> np.ndarray:
    """Autocovariance at every lag, divided by the number of draws, averaged over chains.

    From shape (quantities, chains, draws) to (quantities, draws).
    """
    draws = x.shape[-1]
    size = next_fast_len(2 * draws, real=True)
    spectrum = np.fft.rfft(x - x.mean(axis=-1, keepdims=True), n=size, axis=-1)
    power = (spectrum.real**2 + spectrum.imag**2).mean(axis=1)
    return np.fft.irfft(power, n=size, axis=-1)[..., :draws] / draws
