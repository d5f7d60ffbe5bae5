"""Subsets weighed: all of them, or those that walks meet, and what walks say of themselves."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from millwright.sampling.streams import Stream, generator_of
from millwright.subsets.enumeration import enumerate_block
from millwright.subsets.space import Space
from millwright.subsets.state import Columns, empty
from millwright.subsets.tally import find, new_best, new_met, new_sums
from millwright.subsets.walk import RANDOM_NUMBERS, Found, Walker, block, fresh, walker
from millwright.subsets.weights import Table

__all__ = ["Explored", "Visits", "Walks", "enumerated", "walked"]

_BLOCK = 20_000
_NUMBERS = 2**18
_BATCHES = 20

Told = Callable[[float], None]
"""Is told the share that is done."""


@dataclass(frozen=True, kw_only=True)
class Walks:
    """How subsets are walked over.

    Attributes
    ----------
    chains
        Walks from different starts.
    steps, burn_in
        Steps of each, and steps before them that are not counted.
    """

    chains: int
    steps: int
    burn_in: int


@dataclass(frozen=True, kw_only=True)
class Visits:
    """Where walks stood, in batches of equal length.

    Attributes
    ----------
    included
        Share of steps that each term was in, (chains, batches, terms).
    size
        Share of steps at each number of terms, (terms + 1,).
    mean_size
        Mean number of terms, (chains, batches).
    accepted
        Share of steps that were accepted.
    covered
        Share of the steps of second halves at subsets that were met in first halves.
    kept
        Share of steps at the subsets that are kept.
    """

    included: np.ndarray
    size: np.ndarray
    mean_size: np.ndarray
    accepted: float
    covered: float
    kept: float


@dataclass(frozen=True, kw_only=True)
class Explored:
    """Subsets with their weights.

    Attributes
    ----------
    met
        How many were weighed.
    whole
        Whether these are all.
    included
        Posterior probability of each term, by the weights of all subsets met, (terms,).
    first, second
        Mean and mean square of standardised coefficients, (columns,).
    size
        Posterior probability of each number of terms, (terms + 1,).
    kept
        Terms of the subsets of largest weight, largest first, (kept, terms).
    log, explained, columns
        Log weight, R^2 and number of columns of each.
    shares
        Share of each in the weight of all subsets met.
    visits
        Of walks; None where all subsets were weighed.
    """

    met: int
    whole: bool
    included: np.ndarray
    first: np.ndarray
    second: np.ndarray
    size: np.ndarray
    kept: np.ndarray = field(repr=False)
    log: np.ndarray = field(repr=False)
    explained: np.ndarray = field(repr=False)
    columns: np.ndarray = field(repr=False)
    shares: np.ndarray = field(repr=False)
    visits: Visits | None


def _forced(space: Space) -> np.ndarray:
    """Return whether each term is always in."""
    included = np.ones(len(space.first) - 1, dtype=np.uint8)
    included[space.free] = 0
    return included


def _room(space: Space, kept: int, most: int) -> Found:
    terms = len(space.first) - 1
    return Found(new_met(most), new_sums(terms, int(space.first[-1])), new_best(kept, terms))


def enumerated(columns: Columns, space: Space, table: Table, kept: int, told: Told) -> Explored:
    """Weigh every subset.

    Parameters
    ----------
    kept
        How many of the largest weight to keep.
    """
    total = 2 ** len(space.free)
    found = _room(space, min(kept, total), 1)
    state, included = empty(columns), _forced(space)
    met = 0
    for begin in range(0, total, _NUMBERS):
        end = min(begin + _NUMBERS, total)
        met += enumerate_block(columns, space, table, state, included, found, begin, end)
        told(end / total)
    return _explored(found, met, True, None)


def walked(
    columns: Columns, space: Space, table: Table, kept: int, walks: Walks, seed: int, told: Told
) -> Explored:
    """Weigh the subsets that walks meet; see `enumerated`."""
    most = walks.chains * (walks.steps + walks.burn_in + 1)
    found = _room(space, kept, most)
    terms = len(space.first) - 1
    names = generator_of(seed, Stream.SUBSETS).integers(1, 2**64, terms + 1, dtype=np.uint64)
    included = np.zeros((walks.chains, _BATCHES, terms))
    mean_size = np.zeros((walks.chains, _BATCHES))
    sizes = np.zeros(terms + 1)
    accepted = known = late = 0
    numbers = np.arange(terms + 1)
    for chain in range(walks.chains):
        generator = generator_of(seed, Stream.SUBSETS, chain + 1)
        one = walker(columns, space, _start(columns, space, chain, generator), names)
        if not fresh(columns, space, one.state, one.included):
            # Its columns say the same: it begins at the forced terms, as the first walk does.
            one = walker(columns, space, _forced(space), names)
            fresh(columns, space, one.state, one.included)
        nothing = np.zeros(0, dtype=np.int64)
        _go(columns, space, table, one, names, generator, walks.burn_in, found, nothing, nothing)
        ends = np.linspace(0, walks.steps, _BATCHES + 1).astype(int)
        for batch, steps in enumerate(np.diff(ends)):
            counted, size = np.zeros(terms, dtype=np.int64), np.zeros(terms + 1, dtype=np.int64)
            early = batch < _BATCHES // 2
            moves, old = _go(
                *(columns, space, table, one, names, generator, steps, found, counted, size),
                early=early,
            )
            accepted += moves
            if not early:
                known, late = known + old, late + int(steps)
            included[chain, batch] = counted / max(steps, 1)
            mean_size[chain, batch] = numbers @ size / max(steps, 1)
            sizes += size
            told((chain + (batch + 1) / _BATCHES) / walks.chains)
    steps = walks.chains * walks.steps
    best = found.best.key[: found.best.held[0]]
    at_best = sum(int(found.met.visits[find(found.met, key)]) for key in best)
    visits = Visits(
        included=included,
        size=sizes / sizes.sum(),
        mean_size=mean_size,
        accepted=accepted / steps,
        covered=known / late,
        kept=at_best / steps,
    )
    return _explored(found, int(found.met.held[0]), False, visits)


def _go(
    columns: Columns,
    space: Space,
    table: Table,
    one: Walker,
    names: np.ndarray,
    generator: np.random.Generator,
    steps: int,
    found: Found,
    counted: np.ndarray,
    sizes: np.ndarray,
    early: bool = True,
) -> tuple[int, int]:
    """Go on by some steps, block by block."""
    accepted = known = 0
    for begin in range(0, int(steps), _BLOCK):
        randoms = generator.random((min(_BLOCK, int(steps) - begin), RANDOM_NUMBERS))
        more = block(*(columns, space, table, one, names, randoms, found, counted, sizes, early))
        accepted, known = accepted + more[0], known + more[1]
    return accepted, known


def _start(
    columns: Columns, space: Space, chain: int, generator: np.random.Generator
) -> np.ndarray:
    """Return where a walk begins: at the forced terms, or with some others that may be in."""
    included = _forced(space)
    if chain == 0 or len(space.parents) or len(space.rivals):
        return included
    room = (columns.most - int(np.diff(space.first)[included > 0].sum())) // 2
    wide = int(np.diff(space.first)[space.free].max(initial=1))
    count = min(len(space.free) // 2, max(room // wide, 0), 20)
    chosen = generator.choice(space.free, int(generator.integers(0, count + 1)), replace=False)
    included[chosen] = 1
    return included


def _explored(found: Found, met: int, whole: bool, visits: Visits | None) -> Explored:
    sums, best = found.sums, found.best
    count = int(best.held[0])
    order = np.argsort(-best.log[:count], kind="stable")
    total = float(sums.total[0])
    return Explored(
        met=met,
        whole=whole,
        included=sums.included / total,
        first=sums.first / total,
        second=sums.second / total,
        size=sums.size / total,
        kept=best.included[order].astype(bool),
        log=best.log[order],
        explained=best.explained[order],
        columns=best.columns[order],
        shares=np.exp(best.log[order] - sums.shift[0]) / total,
        visits=visits,
    )
