"""A walk over subsets (Madigan and York 1995): terms come, go, or change places.

A step takes a term in or out, each as likely, or puts one that is out in the place of one that is
in; both are as likely the other way round, so that a step is accepted by the ratio of weights
(Metropolis et al. 1953).
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from millwright.subsets.compiling import compiled
from millwright.subsets.space import Space, allowed, log_prior
from millwright.subsets.state import Columns, State, add, copy, drop, empty, rebuilt
from millwright.subsets.tally import Best, Met, Sums, find, gather
from millwright.subsets.weights import Table, weigh

__all__ = ["RANDOM_NUMBERS", "Found", "Walker", "block", "fresh", "toggled", "walker", "weight_of"]

RANDOM_NUMBERS = 4
"""Random numbers of a step: kind of move, two choices, acceptance."""

_SWAPS = 0.5


class Walker(NamedTuple):
    """Where a walk stands; arrays are changed in place.

    Attributes
    ----------
    state, spare
        Columns of the subset, and room for a proposal.
    included
        Whether each term is in.
    order, place
        Free terms, those that are in first; and where each term is there.
    size
        How many free terms are in, (1,).
    slot
        Where the subset is in `Met`, (1,).
    log
        Its log weight, (1,).
    key
        What it is known by, (1,).
    """

    state: State
    spare: State
    included: np.ndarray
    order: np.ndarray
    place: np.ndarray
    size: np.ndarray
    slot: np.ndarray
    log: np.ndarray
    key: np.ndarray


class Found(NamedTuple):
    """What is gathered of subsets that no walk has met before."""

    met: Met
    sums: Sums
    best: Best


def walker(columns: Columns, space: Space, included: np.ndarray, names: np.ndarray) -> Walker:
    """Return a walk that stands at a subset.

    Parameters
    ----------
    included
        Whether each term is in.
    names
        A random number of 64 bits for each term, and one more; a subset's key is the last with
        those of its terms, by exclusive or.
    """
    inside = included.astype(bool)
    free = space.free[np.argsort(~inside[space.free], kind="stable")]
    place = np.zeros(len(included), dtype=np.int64)
    place[free] = np.arange(len(free))
    key = np.bitwise_xor.reduce(names[:-1][inside], initial=names[-1])
    return Walker(
        empty(columns),
        empty(columns),
        included.astype(np.uint8),
        free.copy(),
        place,
        np.array([int(inside[space.free].sum())]),
        np.full(1, -1, dtype=np.int64),
        np.full(1, -np.inf),
        np.array([key], dtype=np.uint64),
    )


@compiled
def toggled(columns: Columns, space: Space, state: State, included: np.ndarray, term: int) -> bool:
    """Take a term in or out; return False where its columns say what others say."""
    if included[term]:
        included[term] = 0
        for column in range(space.first[term], space.first[term + 1]):
            drop(state, column)
        return True
    included[term] = 1
    for column in range(space.first[term], space.first[term + 1]):
        if not add(columns, state, column):
            return False
    return True


@compiled
def weight_of(
    space: Space, table: Table, state: State, included: np.ndarray
) -> tuple[float, float, float, float]:
    """Return the log weight of a subset, and means of s, s^2 and s (1 - s R^2)."""
    log, s, squared, noise = weigh(table, state.size[0], state.explained[0])
    return log + log_prior(space, included), s, squared, noise


@compiled
def fresh(columns: Columns, space: Space, state: State, included: np.ndarray) -> bool:
    """Work a subset's columns out from nothing, so that rounding does not gather."""
    inside = np.zeros(space.first[-1], dtype=np.uint8)
    for term in range(len(included)):
        for column in range(space.first[term], space.first[term + 1]):
            inside[column] = included[term]
    return rebuilt(columns, state, inside)


@compiled
def block(
    columns: Columns,
    space: Space,
    table: Table,
    walker: Walker,
    names: np.ndarray,
    randoms: np.ndarray,
    found: Found,
    counted: np.ndarray,
    sizes: np.ndarray,
    early: bool,
) -> tuple[int, int]:
    """Go on by a block of steps.

    Parameters
    ----------
    randoms
        (steps, RANDOM_NUMBERS), between 0 and 1.
    counted, sizes
        Steps that each term was in, (terms,), and that each number of terms was, (terms + 1,);
        both empty while the walk is warming up.
    early
        Whether this is the first half of the walk.

    Returns
    -------
    Accepted steps, and steps at subsets that were met in the first half of a walk.
    """
    state, spare, included = walker.state, walker.spare, walker.included
    free, counting = len(walker.order), len(counted) > 0
    binding = len(space.parents) > 0 or len(space.rivals) > 0
    entered = np.zeros(len(included), dtype=np.int64)
    accepted = known = 0
    # Where rounding would make it fail, the subset as it was updated stays.
    if fresh(columns, space, spare, included):
        copy(spare, state)
    if walker.slot[0] < 0:
        _arrive(space, table, walker, found, early)
    for step in range(len(randoms)):
        kind, one, two, chance = randoms[step]
        size = walker.size[0]
        swap = kind < _SWAPS
        if free > 0 and not (swap and (size == 0 or size == free)):
            first = walker.order[int(one * size)] if swap else walker.order[int(one * free)]
            second = walker.order[size + int(two * (free - size))] if swap else -1
            copy(state, spare)
            good = toggled(columns, space, spare, included, first)
            if swap:
                good = toggled(columns, space, spare, included, second)
            if good and binding:
                good = allowed(space, included)
            log = -np.inf
            if good:
                log = weight_of(space, table, spare, included)[0]
            if good and np.log(chance) < log - walker.log[0]:
                copy(spare, state)
                _change(walker, names, first, entered, counted, step)
                if swap:
                    _change(walker, names, second, entered, counted, step)
                _arrive(space, table, walker, found, early)
                accepted += 1
            else:
                included[first] = 1 - included[first]
                if swap:
                    included[second] = 1 - included[second]
        if counting:
            sizes[_terms_in(included)] += 1
            found.met.visits[walker.slot[0]] += 1
            known += found.met.early[walker.slot[0]]
    if counting:
        for term in range(len(included)):
            if included[term]:
                counted[term] += len(randoms) - entered[term]
    return accepted, known


@compiled
def _terms_in(included: np.ndarray) -> int:
    total = 0
    for term in range(len(included)):
        total += included[term]
    return total


@compiled
def _change(
    walker: Walker,
    names: np.ndarray,
    term: int,
    entered: np.ndarray,
    counted: np.ndarray,
    step: int,
) -> None:
    """Note that a term came or went at a step."""
    walker.key[0] ^= names[term]
    order, place, size = walker.order, walker.place, walker.size[0]
    inside = walker.included[term] == 1
    target = size if inside else size - 1
    other, at = order[target], place[term]
    order[target], order[at] = term, other
    place[term], place[other] = target, at
    walker.size[0] = size + 1 if inside else size - 1
    if inside:
        entered[term] = step
    elif len(counted) > 0:
        counted[term] += step - entered[term]


@compiled
def _arrive(space: Space, table: Table, walker: Walker, found: Found, early: bool) -> None:
    """Weigh the subset where a walk stands, and gather it if it is met for the first time."""
    log, s, squared, noise = weight_of(space, table, walker.state, walker.included)
    walker.log[0] = log
    key, met = walker.key[0], found.met
    at = find(met, key)
    walker.slot[0] = at
    if met.key[at] == 0:
        met.key[at] = key
        met.early[at] = early
        met.held[0] += 1
        gather(
            found.sums,
            found.best,
            walker.state,
            table,
            walker.included,
            key,
            log,
            (s, squared, noise),
        )
