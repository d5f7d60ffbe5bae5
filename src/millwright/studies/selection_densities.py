"""Coefficients over subsets: the chance of 0, and a mixture of t densities beside it.

Given a subset and g a coefficient is t with n - 1 degrees of freedom, location s b and squared
scale SST (1 - s R^2) s (X'X)^-1_jj / (n - 1), b being that of least squares.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from scipy import stats
from scipy.special import gammaln

from millwright.draws.intervals import IntervalKind
from millwright.studies.grid_density import GridDensity
from millwright.studies.selection_data import Candidates
from millwright.studies.selection_draws import columns_in, least_squares, shrinkage_quantiles
from millwright.subsets.explore import Explored
from millwright.subsets.weights import GPrior

__all__ = ["CoefficientDensity", "coefficient_densities"]

_NODES = 8
_TOGETHER = 1_000_000
_LEAST = 1e-7
_POINTS = 5
_SHARES = np.array([1e-6, 1e-4, 1e-3, 0.01, 0.05, 0.15, 0.3, 0.5])
_SHARES = np.concatenate([_SHARES, 1 - _SHARES[:-1][::-1]])


@dataclass(frozen=True, kw_only=True)
class CoefficientDensity:
    """One coefficient on the scale of the data.

    Attributes
    ----------
    inside
        Probability that it is in, by all subsets met.
    weights, location, scale
        Mixture of t densities where it is in, by the subsets kept; weights sum to 1.
    df
        Degrees of freedom.
    """

    inside: float
    weights: np.ndarray = field(repr=False)
    location: np.ndarray = field(repr=False)
    scale: np.ndarray = field(repr=False)
    df: int

    @property
    def known(self) -> bool:
        """Whether any subset that is kept has it."""
        return len(self.weights) > 0

    @cached_property
    def where_in(self) -> GridDensity:
        """Its density where it is in."""
        marks = self.location[:, None] + self.scale[:, None] * stats.t.ppf(_SHARES, self.df)
        order = np.argsort(-self.weights)[:200]
        edges = np.unique(np.quantile(marks[order], np.linspace(0, 1, 60)))
        ends = np.array([marks.min(), marks.max()])
        return GridDensity(
            log_density=self._log_density,
            edges=np.unique(np.concatenate([ends, edges])),
            per_piece=_POINTS,
        ).refined()

    def _log_density(self, places: np.ndarray) -> np.ndarray:
        with np.errstate(divide="ignore"):
            return np.log(self._mixed(places))

    def _mixed(self, places: np.ndarray) -> np.ndarray:
        """Return the mixture at places, some components at a time."""
        total = np.zeros(len(places))
        constant = np.exp(gammaln(0.5 * (self.df + 1)) - gammaln(0.5 * self.df))
        heights = self.weights * constant / (self.scale * np.sqrt(np.pi * self.df))
        size = max(1, _TOGETHER // len(places))
        for at in range(0, len(heights), size):
            some = slice(at, at + size)
            z = (places - self.location[some, None]) / self.scale[some, None]
            total += heights[some] @ np.exp(-0.5 * (self.df + 1) * np.log1p(z * z / self.df))
        return total

    def above(self, value: float) -> float:
        """Return the probability that it is above a value where it is in."""
        return float(self.weights @ stats.t.sf((value - self.location) / self.scale, self.df))

    def quantile(self, share: float) -> float:
        """Return a quantile over all subsets, with the chance of exactly 0 among them."""
        below = self.inside * (1 - self.above(0.0)) if self.known else 0.0
        if below <= share <= below + 1 - self.inside or not self.known:
            return 0.0
        rest = share / self.inside if share < below else (share - 1 + self.inside) / self.inside
        return float(self.where_in.quantile(np.array([rest]))[0])

    def interval(self, level: float, kind: IntervalKind) -> tuple[float, float]:
        """Return the ends of a credible interval where it is in."""
        return self.where_in.interval(level, kind)


def coefficient_densities(
    made: Candidates, prior: GPrior, explored: Explored
) -> dict[str, CoefficientDensity]:
    """Return the density of every coefficient, by column."""
    parts: dict[int, list[tuple[np.ndarray, ...]]] = {at: [] for at in range(len(made.names))}
    least = _LEAST * explored.shares.max()
    for at in np.flatnonzero(explored.shares > least):
        columns = columns_in(made, explored.kept[at])
        if not len(columns):
            continue
        middle, inverse = least_squares(made, columns)
        shrunk, chances = _nodes(prior, len(columns), float(explored.explained[at]))
        left = (1 - shrunk * explored.explained[at]) * shrunk / (made.rows - 1)
        for place, column in enumerate(columns):
            scale = np.sqrt(left * inverse[place, place])
            parts[column].append((explored.shares[at] * chances, shrunk * middle[place], scale))
    inside = np.repeat(explored.included, np.diff(made.first))
    found = {}
    for column, name in enumerate(made.names):
        weights, location, scale = (
            np.concatenate([one[which] for one in parts[column]]) if parts[column] else np.zeros(0)
            for which in range(3)
        )
        unit = made.outcome_length / made.length[column]
        total = weights.sum()
        found[name] = CoefficientDensity(
            inside=float(inside[column]),
            weights=weights / total if total > 0 else weights,
            location=unit * location,
            scale=unit * scale,
            df=made.rows - 1,
        )
    return found


def _nodes(prior: GPrior, columns: int, explained: float) -> tuple[np.ndarray, np.ndarray]:
    """Return few places of s with their chances, that stand for its posterior."""
    g, logs = prior.log_weights(columns, np.asarray(explained))
    if len(g) == 1:
        return g / (1 + g), np.ones(1)
    shares = (np.arange(_NODES) + 0.5) / _NODES
    return shrinkage_quantiles(g, logs, shares), np.full(_NODES, 1 / _NODES)
