"""A subset of columns with the inverse of its cross products, updated column by column.

Compiled by numba: one step of a walk is far too little work for arrays.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from millwright.subsets.compiling import compiled

__all__ = ["Columns", "State", "add", "drop", "empty", "rebuilt"]

_COLLINEAR = 1e-9


class Columns(NamedTuple):
    """Standardised columns by their correlations.

    Attributes
    ----------
    gram
        Correlations of the columns, (columns, columns).
    with_outcome
        Correlations with the outcome, (columns,).
    most
        How many columns a subset has at most.
    """

    gram: np.ndarray
    with_outcome: np.ndarray
    most: int


class State(NamedTuple):
    """A subset; arrays are changed in place.

    Attributes
    ----------
    active
        Its columns, in the order of `inverse`; the first `size[0]` places hold.
    place
        Where each column is in `active`; -1 outside.
    inverse
        Inverse of the correlations of the active columns.
    slopes
        Least-squares slopes of the active columns, standardised.
    size
        Number of active columns, (1,).
    explained
        Share of the outcome's variance that they explain, R^2, (1,).
    """

    active: np.ndarray
    place: np.ndarray
    inverse: np.ndarray
    slopes: np.ndarray
    size: np.ndarray
    explained: np.ndarray


def empty(columns: Columns) -> State:
    """Return the empty subset."""
    size, most = len(columns.with_outcome), columns.most
    return State(
        np.zeros(most, dtype=np.int64),
        np.full(size, -1, dtype=np.int64),
        np.zeros((most, most)),
        np.zeros(most),
        np.zeros(1, dtype=np.int64),
        np.zeros(1),
    )


@compiled
def copy(source: State, target: State) -> None:
    """Copy a subset into another."""
    count = source.size[0]
    for at in range(target.size[0]):
        target.place[target.active[at]] = -1
    for at in range(count):
        target.active[at] = source.active[at]
        target.place[source.active[at]] = at
        target.slopes[at] = source.slopes[at]
        for other in range(count):
            target.inverse[at, other] = source.inverse[at, other]
    target.size[0] = count
    target.explained[0] = source.explained[0]


@compiled
def add(columns: Columns, state: State, column: int) -> bool:
    """Add a column; return False, with nothing changed, where it says what others say."""
    count = state.size[0]
    if count >= columns.most:
        return False
    inverse, slopes, active = state.inverse, state.slopes, state.active
    on_others = np.empty(count)
    left = columns.gram[column, column]
    apart = columns.with_outcome[column]
    for at in range(count):
        total = 0.0
        for other in range(count):
            total += inverse[at, other] * columns.gram[active[other], column]
        on_others[at] = total
    for at in range(count):
        left -= on_others[at] * columns.gram[active[at], column]
        apart -= on_others[at] * columns.with_outcome[active[at]]
    if left < _COLLINEAR:
        return False
    slope = apart / left
    for at in range(count):
        for other in range(count):
            inverse[at, other] += on_others[at] * on_others[other] / left
        inverse[at, count] = -on_others[at] / left
        inverse[count, at] = -on_others[at] / left
        slopes[at] -= on_others[at] * slope
    inverse[count, count] = 1.0 / left
    slopes[count] = slope
    active[count] = column
    state.place[column] = count
    state.size[0] = count + 1
    state.explained[0] += apart * slope
    return True


@compiled
def drop(state: State, column: int) -> None:
    """Drop a column that is there."""
    last = state.size[0] - 1
    inverse, slopes, active = state.inverse, state.slopes, state.active
    at = state.place[column]
    if at != last:
        _swap(state, at, last)
    own = inverse[last, last]
    slope = slopes[last]
    state.explained[0] -= slope * slope / own
    for one in range(last):
        slopes[one] -= inverse[one, last] * slope / own
        for other in range(last):
            inverse[one, other] -= inverse[one, last] * inverse[last, other] / own
    state.place[active[last]] = -1
    state.size[0] = last


@compiled
def _swap(state: State, one: int, other: int) -> None:
    inverse, slopes, active = state.inverse, state.slopes, state.active
    for at in range(state.size[0]):
        inverse[one, at], inverse[other, at] = inverse[other, at], inverse[one, at]
    for at in range(state.size[0]):
        inverse[at, one], inverse[at, other] = inverse[at, other], inverse[at, one]
    slopes[one], slopes[other] = slopes[other], slopes[one]
    active[one], active[other] = active[other], active[one]
    state.place[active[one]], state.place[active[other]] = one, other


@compiled
def rebuilt(columns: Columns, state: State, included: np.ndarray) -> bool:
    """Build a subset from nothing, so that rounding does not gather.

    Parameters
    ----------
    included
        Whether each column is in it.

    Returns
    -------
    False where columns say the same, or there are too many.
    """
    for at in range(state.size[0]):
        state.place[state.active[at]] = -1
    state.size[0] = 0
    state.explained[0] = 0.0
    for column in range(len(included)):
        if included[column] and not add(columns, state, column):
            return False
    return True
