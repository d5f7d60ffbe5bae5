"""Which subsets are allowed, and how probable each is before the data."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from millwright.subsets.compiling import compiled

__all__ = ["Space", "allowed", "log_prior"]


class Space(NamedTuple):
    """Terms, each of one column or several, and what binds them.

    Attributes
    ----------
    first
        First column of each term, and the number of all columns at the end, (terms + 1,).
    free
        Terms that may come and go, (free,); others are always in.
    parents, parents_from
        Terms that each term needs, one after the other, and where those of a term begin.
    rivals, rivals_from
        Terms that exclude each term, likewise.
    by_size
        Log prior probability of a subset by its number of free terms, (free + 1,).
    log_odds
        Added for each term that is in, (terms,).
    """

    first: np.ndarray
    free: np.ndarray
    parents: np.ndarray
    parents_from: np.ndarray
    rivals: np.ndarray
    rivals_from: np.ndarray
    by_size: np.ndarray
    log_odds: np.ndarray


@compiled
def allowed(space: Space, included: np.ndarray) -> bool:
    """Whether all terms that are in have their parents and no rival."""
    for term in range(len(included)):
        if not included[term]:
            continue
        for at in range(space.parents_from[term], space.parents_from[term + 1]):
            if not included[space.parents[at]]:
                return False
        for at in range(space.rivals_from[term], space.rivals_from[term + 1]):
            if included[space.rivals[at]]:
                return False
    return True


@compiled
def log_prior(space: Space, included: np.ndarray) -> float:
    """Return the log prior probability, up to a constant where subsets are not allowed."""
    size = 0
    total = 0.0
    for at in range(len(space.free)):
        if included[space.free[at]]:
            size += 1
            total += space.log_odds[space.free[at]]
    return total + space.by_size[size]
