"""A density of one number that is known on a grid: its integral, quantiles and intervals."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from scipy.integrate import cumulative_simpson
from scipy.interpolate import CubicHermiteSpline, PchipInterpolator

from millwright.draws.intervals import IntervalKind

__all__ = ["GridDensity", "interval_of"]

_FINEST = 1e11
_STARTS = 2001
_CLOSEST = 1e-11
_REFINED = np.array([1e-9, 1e-6, 1e-4, 1e-3, 0.01, 0.05, 0.2, 0.4, 0.6, 0.8])
_REFINED = np.concatenate([_REFINED, 1 - _REFINED])


@dataclass(frozen=True, kw_only=True)
class GridDensity:
    """A density that is smooth between edges.

    Attributes
    ----------
    log_density
        Function of places (n,) to log densities, up to one constant.
    edges
        Ends of the range and of the pieces in between, ascending.
    per_piece
        Places in each piece, its ends among them; odd.
    """

    log_density: Callable[[np.ndarray], np.ndarray] = field(repr=False)
    edges: np.ndarray
    per_piece: int = 25

    def __post_init__(self) -> None:
        edges = np.asarray(self.edges, dtype=float)
        # Places within a piece must differ by more than rounding.
        least = _CLOSEST * np.maximum(np.abs(edges[1:]), np.abs(edges[:-1]))
        kept = np.append(True, np.diff(edges) > least)
        kept[-1] = True
        edges = edges[kept]
        if len(edges) > 2 and edges[-1] - edges[-2] <= _CLOSEST * abs(edges[-1]):
            edges = np.delete(edges, -2)
        object.__setattr__(self, "edges", edges)

    @cached_property
    def grid(self) -> np.ndarray:
        """Places, shape (places,): each piece cut into equal steps."""
        steps = np.linspace(0, 1, self.per_piece)[:-1]
        pieces = self.edges[:-1, None] + np.diff(self.edges)[:, None] * steps
        return np.append(pieces.ravel(), self.edges[-1])

    @cached_property
    def _values(self) -> tuple[np.ndarray, float]:
        """Densities on the grid relative to the highest, and the log of that."""
        logs = self.log_density(self.grid)
        logs = np.where(np.isnan(logs), -np.inf, logs)
        top = float(logs[np.isfinite(logs)].max())
        return np.where(np.isfinite(logs), np.exp(logs - top), 0.0), top

    @cached_property
    def _cumulated(self) -> tuple[np.ndarray, float]:
        values, top = self._values
        # Piece by piece, since the step changes at the edges: a row each.
        begins = np.arange(0, len(values) - 1, self.per_piece - 1)
        places = begins[:, None] + np.arange(self.per_piece)
        sums = cumulative_simpson(values[places], x=self.grid[places], initial=0)
        before = np.concatenate([[0.0], np.cumsum(sums[:, -1])])
        every = np.append((before[:-1, None] + sums[:, :-1]).ravel(), before[-1])
        return every / every[-1], top + float(np.log(every[-1]))

    @property
    def log_integral(self) -> float:
        """Logarithm of the integral over the range."""
        return self._cumulated[1]

    @property
    def densities(self) -> np.ndarray:
        """Normalised densities on the grid."""
        values, top = self._values
        return values * np.exp(top - self.log_integral)

    @property
    def median(self) -> float:
        """The median."""
        return float(self.quantile(np.array([0.5]))[0])

    def quantile(self, shares: np.ndarray) -> np.ndarray:
        """Return quantiles at shares between 0 and 1."""
        cumulated = np.clip(self._cumulated[0], 0, 1)
        # Points closer than rounding have no order, and an inverse no slope there.
        _, kept = np.unique(np.floor(cumulated * _FINEST), return_index=True)
        inverse = PchipInterpolator(cumulated[kept], self.grid[kept])
        return np.asarray(inverse(np.clip(shares, cumulated[kept][0], cumulated[kept][-1])))

    def below(self, value: float) -> float:
        """Return the probability below a value."""
        at = float(np.clip(value, self.grid[0], self.grid[-1]))
        found = CubicHermiteSpline(self.grid, self._cumulated[0], self.densities)(at)
        return float(np.clip(found, 0, 1))

    def refined(self, times: int = 1) -> GridDensity:
        """Return the density with edges added at its own quantiles, where it has its mass."""
        density = self
        for _ in range(times):
            edges = np.concatenate([density.edges, density.quantile(_REFINED)])
            density = replace(density, edges=np.unique(edges))
        return density

    def interval(self, level: float, kind: IntervalKind) -> tuple[float, float]:
        """Return the ends of a credible interval."""
        return interval_of(self.quantile, level, kind)


def interval_of(
    quantile: Callable[[np.ndarray], np.ndarray], level: float, kind: IntervalKind
) -> tuple[float, float]:
    """Return the ends of a credible interval from quantiles, the shortest for `hdi`."""
    if kind == "central":
        low, high = quantile(np.array([(1 - level) / 2, (1 + level) / 2]))
        return float(low), float(high)
    start = np.linspace(0, 1 - level, _STARTS)
    lows, highs = quantile(start), quantile(start + level)
    at = int(np.argmin(highs - lows))
    return float(lows[at]), float(highs[at])
