"""What a sampler sees of a model: nothing but a log density over the real numbers."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

__all__ = ["Target"]


@dataclass(frozen=True)
class Target:
    """A density to sample from.

    Attributes
    ----------
    dimension
        Number of unconstrained coordinates.
    log_density
        `log_density(position, arguments)`, traceable by JAX, a float64 scalar for a position of
        shape (dimension,). It compares by content: targets with equal functions and arguments
        of equal shapes share one compiled sampler.
    arguments
        Arrays passed on to `log_density`, in any nesting of mappings and tuples.
    starts
        `starts(generator, n)` gives n over-dispersed candidate positions, shape (n, dimension).
    explain
        `explain(positions)` says in words why the density is not finite there.
    plain
        `plain(positions)` gives the log density at positions (n, dimension) without JAX, shape
        (n,), for samplers that need no gradient.
    """

    dimension: int
    log_density: Callable[[Any, Any], Any] = field(repr=False)
    arguments: Any = field(repr=False)
    starts: Callable[[np.random.Generator, int], np.ndarray] = field(repr=False)
    explain: Callable[[np.ndarray], str] = field(repr=False, default=lambda positions: "")
    plain: Callable[[np.ndarray], np.ndarray] = field(
        repr=False, default=lambda positions: np.full(len(positions), np.nan)
    )

    @property
    def key(self) -> Hashable:
        """What the compiled functions of this target depend on, besides shapes."""
        return self.log_density
