"""Where chains start: points drawn from the prior, every second chain on the other side."""

from __future__ import annotations

import numpy as np

from millwright.sampling.target import TargetDensity

__all__ = ["LOWEST_START", "pulled_in", "spread_of", "start_candidates"]

LOWEST_START = -1e13
"""A start with a lower log density is taken only if those of all candidates are lower.

What decides about a step is lost in the rounding of such numbers, and a chain never moves.
"""

_PULLED = 8
_SHARES = (0.1, 0.01, 1e-3, 1e-4)


def start_candidates(target: TargetDensity, seed: int, unit: int) -> np.ndarray:
    """Return points to start from; every second chain mirrors those of the one before.

    Pairs of chains that start on opposite sides rarely settle in the same one of two modes.
    """
    pair = np.random.SeedSequence(seed, spawn_key=(unit - unit % 2,)).spawn(1)[0]
    # 200 of them, but no more than 16 MB.
    count = int(np.clip(2_000_000 // target.dimension, 20, 200))
    candidates = target.starts(np.random.default_rng(pair), count)
    if unit % 2 == 0:
        return candidates
    mirrored = 2.0 * _quantiles(candidates, [0.5])[0] - candidates
    return np.concatenate([mirrored[: count // 4], candidates[count // 4 :]])


def pulled_in(candidates: np.ndarray) -> np.ndarray:
    """Return points nearer and nearer to the middle of candidates, then to the origin.

    For densities that are not finite over nearly all of the prior: with a slope of sd 10 for a
    column in the thousands every exponential overflows.
    """
    some = candidates[:_PULLED]
    middle = _quantiles(candidates, [0.5])[0]
    inwards = [middle + share * (some - middle) for share in _SHARES]
    return np.concatenate([*inwards, *(share * some for share in _SHARES)])


def _quantiles(candidates: np.ndarray, shares: list[float]) -> np.ndarray:
    """Return quantiles of each column; missing values are left out."""
    found = np.quantile(candidates, shares, axis=0)
    gaps = np.isnan(found).any(axis=0)
    if gaps.any():
        # One column at a time, and slow: only where it is needed.
        found[:, gaps] = np.nanquantile(candidates[:, gaps], shares, axis=0)
    return found


def spread_of(candidates: np.ndarray) -> np.ndarray:
    """Return a robust standard deviation of each coordinate over the candidates."""
    low, high = _quantiles(candidates, [0.25, 0.75])
    spread = (high - low) / 1.349
    return np.where(np.isfinite(spread) & (spread > 0), spread, 1.0)
