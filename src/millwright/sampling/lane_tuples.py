"""What passes in and out of a compiled block of lanes."""

from __future__ import annotations

from typing import Any, NamedTuple

__all__ = ["LanePoint", "LaneSettings"]


class LanePoint(NamedTuple):
    """Where the lanes are: shapes (sets, chains, dimension), twice, and (sets, chains).

    The gradient is that of the standardised coordinates, S' g for positions q = S z.
    """

    q: Any
    gradient: Any
    log_density: Any


class LaneSettings(NamedTuple):
    """Numbers that change between blocks without compiling.

    `scale` has shape (sets, dimension, dimension), `target_acceptance` shape (sets,); `cautious`
    adapts to the chain with the lowest acceptance in place of the mean.
    """

    count: Any
    adapting: Any
    cautious: Any
    scale: Any
    target_acceptance: Any
    most_steps: Any
