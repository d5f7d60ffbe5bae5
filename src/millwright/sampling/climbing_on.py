"""Ends of climbs in many dimensions, where no curvature tells a peak from a flat place.

Where spreads of groups are nearly zero, effects hardly move the density and climbs are slow: such
a place looks like an end apart from the peak, to which a climb that is given more steps gets.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from millwright.sampling.climbs import Climbs
from millwright.sampling.peak_ends import End

__all__ = ["still_apart"]

_ROUNDS = 8


def still_apart(
    climbs: Climbs, ends: Sequence[End], widths: np.ndarray, dips: Callable[[End, End], bool]
) -> list[End]:
    """Return the ends that are apart also when they have climbed on.

    Each round forgets what the climb knew of the curvature, which was that of another place.

    Parameters
    ----------
    ends
        Ends that are apart, not all of them settled.
    widths
        Rough scale of each coordinate, shape (dimension,).
    dips
        Whether the line between two ends goes down well below the lower of them.
    """
    for _ in range(_ROUNDS):
        going = [end for end in ends if not end.settled]
        if not going or len(ends) < 2:
            break
        climbs.spend(len(going))
        centre = min(ends, key=lambda end: end.value).position
        tops = climbs.tops((end.position for end in going), centre, widths, _none)
        found = [end for end in ends if end.settled]
        found += [End(position=t.position, value=t.value, settled=t.settled) for t in tops]
        ends = []
        for end in sorted(found, key=lambda end: end.value):
            if all(dips(end, higher) for higher in ends):
                ends.append(end)
    return list(ends)


def _none(positions: np.ndarray, values: np.ndarray) -> np.ndarray:
    return np.zeros(len(values), dtype=bool)
