"""How long blocks should be, so that they can be reported and stopped."""

from __future__ import annotations

import numpy as np

__all__ = ["Pace"]

_SECONDS_PER_BLOCK = 0.1


class Pace:
    """The length of the next block of each unit, learned from the time of the last one.

    It starts small and grows up to four times a block. Draws do not depend on it.
    """

    def __init__(self, longest: int, first: int = 4) -> None:
        self.longest = longest
        self.first = min(first, longest)
        self.counts: dict[int, int] = {}

    def of(self, unit: int) -> int:
        """Return the length of the next block."""
        return self.counts.get(unit, self.first)

    def learn(self, unit: int, seconds: float, moved: int) -> None:
        """Take note of a block of `moved` transitions."""
        pace = moved * _SECONDS_PER_BLOCK / max(seconds, 1e-6)
        self.counts[unit] = int(np.clip(pace, 1, min(self.longest, 4 * self.of(unit))))
