"""Priors whose arguments are plain numbers: their density and quantiles, exactly."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.family import Family
from millwright.modelling.arguments import family_of
from millwright.modelling.specification import Part, Specification
from millwright.modelling.words import constant_arguments

__all__ = ["KnownPrior", "known_prior"]


@dataclass(frozen=True)
class KnownPrior:
    """A prior that can be drawn without drawing from it."""

    family: Family
    values: dict[str, float]

    def quantiles(self, *shares: float) -> np.ndarray:
        """Return quantiles, shape (shares,)."""
        with np.errstate(all="ignore"):
            return np.asarray(self.family.quantile(np.array(shares), self.values), dtype=float)

    def curve(self, share: float = 0.99, points: int = 400) -> tuple[np.ndarray, np.ndarray]:
        """Return a grid over a central share of the prior, and the density there.

        Where the density has no bound it is cut at its height next to the end of the grid.
        """
        low, high = self.quantiles((1 - share) / 2, (1 + share) / 2)
        grid = np.linspace(low, high, points)
        with np.errstate(all="ignore"):
            height = np.exp(np.asarray(self.family.log_density(on_numpy, grid, self.values)))
        known = np.isfinite(height)
        return grid, np.where(known, height, height[known].max(initial=0.0))


def known_prior(specification: Specification, name: str) -> KnownPrior | None:
    """Return the prior of an unknown, or of one number of it, if it rests on numbers alone."""
    base = name.split("[")[0]
    part: Part | None = next((p for p in specification.parts if p.name == base), None)
    if part is None or part.kind != "unknown" or part.event != "number":
        return None
    family = family_of(part.family, part.arguments)
    values = constant_arguments(part)
    if values is None or not isinstance(family, Family):
        return None
    return KnownPrior(family, values)
