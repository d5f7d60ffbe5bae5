"""What is gathered over subsets as they are met: sums by weight, the best, and who was met.

Sums are kept relative to the largest weight met, so that nothing overflows; memory grows by 13
bytes for each subset met, all else with the subsets kept.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from millwright.subsets.compiling import compiled
from millwright.subsets.state import State
from millwright.subsets.weights import Table

__all__ = ["Best", "Met", "Sums", "find", "gather", "new_best", "new_met", "new_sums"]

_LEAST_SLOTS = 1024


class Sums(NamedTuple):
    """Sums over subsets, each by its weight over exp(`shift`).

    Attributes
    ----------
    shift, total
        Log of the unit, and the sum of weights, (1,) each.
    included
        By term.
    first, second
        Mean and mean square of each standardised coefficient, 0 where it is out, by column.
    size
        By number of terms.
    """

    shift: np.ndarray
    total: np.ndarray
    included: np.ndarray
    first: np.ndarray
    second: np.ndarray
    size: np.ndarray


class Best(NamedTuple):
    """The subsets of largest weight, as a heap with the smallest first.

    Attributes
    ----------
    log, explained
        Log weight and R^2, (kept,).
    columns
        Number of columns.
    included
        (kept, terms).
    key
        What a subset is known by.
    held
        How many there are, (1,).
    """

    log: np.ndarray
    explained: np.ndarray
    columns: np.ndarray
    included: np.ndarray
    key: np.ndarray
    held: np.ndarray


class Met(NamedTuple):
    """Subsets met, by their keys: an open table with room for twice as many.

    Attributes
    ----------
    key
        0 where a place is free.
    visits
        Steps that a walk stood there.
    early
        Whether it was met in the first half of a walk.
    held
        How many there are, (1,).
    """

    key: np.ndarray
    visits: np.ndarray
    early: np.ndarray
    held: np.ndarray


def new_sums(terms: int, columns: int) -> Sums:
    """Return sums of nothing."""
    zeros = (np.zeros(size) for size in (1, terms, columns, columns, terms + 1))
    return Sums(np.full(1, -np.inf), *zeros)


def new_best(kept: int, terms: int) -> Best:
    """Return room for the best subsets."""
    return Best(
        np.zeros(kept),
        np.zeros(kept),
        np.zeros(kept, dtype=np.int64),
        np.zeros((kept, terms), dtype=np.uint8),
        np.zeros(kept, dtype=np.uint64),
        np.zeros(1, dtype=np.int64),
    )


def new_met(most: int) -> Met:
    """Return room for so many subsets."""
    size = _LEAST_SLOTS
    while size < 2 * most:
        size *= 2
    return Met(
        np.zeros(size, dtype=np.uint64),
        np.zeros(size, dtype=np.int32),
        np.zeros(size, dtype=np.int8),
        np.zeros(1, dtype=np.int64),
    )


@compiled
def find(met: Met, key: np.uint64) -> int:
    """Return the place of a key, or of the free place where it belongs."""
    mask = np.uint64(len(met.key) - 1)
    at = key & mask
    while met.key[at] != 0 and met.key[at] != key:
        at = (at + np.uint64(1)) & mask
    return int(at)


@compiled
def gather(
    sums: Sums,
    best: Best,
    state: State,
    table: Table,
    included: np.ndarray,
    key: np.uint64,
    log: float,
    means: tuple[float, float, float],
) -> None:
    """Add a subset that is met for the first time.

    Parameters
    ----------
    log
        Its log weight: Bayes factor over none times prior probability.
    means
        Of s, s^2 and s (1 - s R^2), as `weigh` returns them.
    """
    if log > sums.shift[0]:
        scale = np.exp(sums.shift[0] - log)
        for part in (sums.total, sums.included, sums.first, sums.second, sums.size):
            for at in range(len(part)):
                part[at] *= scale
        sums.shift[0] = log
    weight = np.exp(log - sums.shift[0])
    if weight > 0.0:
        sums.total[0] += weight
        size = 0
        for term in range(len(included)):
            if included[term]:
                sums.included[term] += weight
                size += 1
        sums.size[size] += weight
        variance = means[2] / (table.rows - 3)
        for at in range(state.size[0]):
            slope, column = state.slopes[at], state.active[at]
            sums.first[column] += weight * means[0] * slope
            spread = variance * state.inverse[at, at]
            sums.second[column] += weight * (means[1] * slope * slope + spread)
    _keep(best, state, included, key, log)


@compiled
def _keep(best: Best, state: State, included: np.ndarray, key: np.uint64, log: float) -> None:
    """Put a subset among the best, if it belongs there."""
    count = best.held[0]
    if count < len(best.log):
        best.held[0] = count + 1
        _set(best, count, state, included, key, log)
        _rise(best, count)
    elif log > best.log[0]:
        _set(best, 0, state, included, key, log)
        _sink(best)


@compiled
def _set(
    best: Best, at: int, state: State, included: np.ndarray, key: np.uint64, log: float
) -> None:
    best.log[at] = log
    best.explained[at] = state.explained[0]
    best.columns[at] = state.size[0]
    for term in range(len(included)):
        best.included[at, term] = included[term]
    best.key[at] = key


@compiled
def _change(best: Best, one: int, other: int) -> None:
    best.log[one], best.log[other] = best.log[other], best.log[one]
    best.explained[one], best.explained[other] = best.explained[other], best.explained[one]
    best.columns[one], best.columns[other] = best.columns[other], best.columns[one]
    best.key[one], best.key[other] = best.key[other], best.key[one]
    for term in range(best.included.shape[1]):
        held = best.included[one, term]
        best.included[one, term] = best.included[other, term]
        best.included[other, term] = held


@compiled
def _rise(best: Best, at: int) -> None:
    while at > 0 and best.log[(at - 1) // 2] > best.log[at]:
        _change(best, at, (at - 1) // 2)
        at = (at - 1) // 2


@compiled
def _sink(best: Best) -> None:
    at, count = 0, best.held[0]
    while True:
        least = at
        for child in (2 * at + 1, 2 * at + 2):
            if child < count and best.log[child] < best.log[least]:
                least = child
        if least == at:
            return
        _change(best, at, least)
        at = least
