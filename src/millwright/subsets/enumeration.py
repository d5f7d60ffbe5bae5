"""Every subset in turn, each a term away from the one before (Gray 1953)."""

from __future__ import annotations

import numpy as np

from millwright.subsets.compiling import compiled
from millwright.subsets.space import Space, allowed
from millwright.subsets.state import Columns, State
from millwright.subsets.tally import gather
from millwright.subsets.walk import Found, fresh, toggled, weight_of
from millwright.subsets.weights import Table

__all__ = ["enumerate_block"]

_FRESH = 4096


@compiled
def enumerate_block(
    columns: Columns,
    space: Space,
    table: Table,
    state: State,
    included: np.ndarray,
    found: Found,
    begin: int,
    end: int,
) -> int:
    """Weigh the subsets from number `begin` to before `end` of 2^free.

    Parameters
    ----------
    state, included
        The subset of the number before `begin`; that of terms which are always in for 0.

    Returns
    -------
    How many of them are allowed, and have columns that say different things.
    """
    good = fresh(columns, space, state, included)
    count = 0
    for number in range(begin, end):
        if number > 0:
            at, rest = 0, number
            while rest % 2 == 0:
                at, rest = at + 1, rest // 2
            if good and number % _FRESH:
                good = toggled(columns, space, state, included, space.free[at])
            else:
                included[space.free[at]] = 1 - included[space.free[at]]
                good = fresh(columns, space, state, included)
        if good and allowed(space, included):
            log, s, squared, noise = weight_of(space, table, state, included)
            gather(
                found.sums,
                found.best,
                state,
                table,
                included,
                np.uint64(number + 1),
                log,
                (s, squared, noise),
            )
            count += 1
    return count
