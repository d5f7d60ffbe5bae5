"""Draws of a model of publication bias: effect, spread, and chances to be seen or a slope.

Proposals are drawn from a histogram of the posterior on a lattice of cells and accepted by an
independence sampler (Tierney 1994, section 2.3.3; Liu 1996, "Metropolized independent sampling"):
each draw is a chain of its own, begun in the histogram, so that draws are independent.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from scipy.ndimage import maximum_filter

from millwright.draws.known_priors import KnownPrior
from millwright.studies.grid_density import GridDensity
from millwright.studies.meta_bias import BiasModel
from millwright.studies.meta_posterior import Trials, log_prior

__all__ = ["BiasDraws", "BiasJoint"]

_EFFECT_SHARES = np.array([1e-7, 1e-5, 1e-4, 1e-3, 5e-3])
_EFFECT_SHARES = np.concatenate([_EFFECT_SHARES, np.linspace(0.02, 0.98, 25)])
_EFFECT_SHARES = np.concatenate([_EFFECT_SHARES, 1 - np.array([5e-3, 1e-3, 1e-4, 1e-5, 1e-7])])
_WIDER = 0.2
_STEPS = 40


@dataclass(frozen=True)
class BiasDraws:
    """Draws of one model: effect and spread, (draws,), 0 where it has none; `own`, (draws, k)."""

    effect: np.ndarray
    spread: np.ndarray
    own: np.ndarray


@dataclass(frozen=True, kw_only=True)
class BiasJoint:
    """The posterior of one model of bias.

    Attributes
    ----------
    effect, spread
        Priors; None for none.
    effects
        Posterior of the effect; None for none.
    spread_edges
        Ends of cells of the spread.
    """

    trials: Trials = field(repr=False)
    bias: BiasModel
    effect: KnownPrior | None
    spread: KnownPrior | None
    effects: GridDensity | None = field(repr=False)
    spread_edges: np.ndarray | None = field(repr=False)

    def draws(self, generator: np.random.Generator, count: int) -> BiasDraws:
        """Return independent draws."""
        edges = self._edges()
        if not edges:
            return self._told(np.zeros((count, 0)))
        proposals = _Proposals(edges, self._log_density)
        place, weight = proposals.draw(generator, count)
        for _ in range(_STEPS):
            other, its = proposals.draw(generator, count)
            accepted = np.log(generator.random(count)) < its - weight
            place[accepted], weight[accepted] = other[accepted], its[accepted]
        return self._told(place)

    def _edges(self) -> list[np.ndarray]:
        found = []
        if self.effects is not None:
            found.append(np.unique(self.effects.quantile(_EFFECT_SHARES)))
        if self.spread_edges is not None:
            found.append(self.spread_edges)
        return [*found, *self.bias.own_edges]

    def _told(self, places: np.ndarray) -> BiasDraws:
        """Return places, (n, unknowns), by what they are."""
        nothing = np.zeros(len(places))
        rest = list(places.T)
        effect = nothing if self.effect is None else rest.pop(0)
        spread = nothing if self.spread is None else rest.pop(0)
        own = np.stack(rest, axis=1) if rest else np.zeros((len(places), 0))
        return BiasDraws(effect, spread, own)

    def _log_density(self, places: np.ndarray) -> np.ndarray:
        at = self._told(places)
        with np.errstate(divide="ignore", invalid="ignore"):
            total = self.bias.joint(self.trials, at.effect, at.spread, at.own)
        for prior, values in ((self.effect, at.effect), (self.spread, at.spread)):
            if prior is not None:
                total = total + log_prior(prior, values)
        return np.where(np.isnan(total), -np.inf, total)


class _Proposals:
    """A histogram of a density, with a share of a wider one, so that no cell has too little."""

    def __init__(
        self, edges: list[np.ndarray], log_density: Callable[[np.ndarray], np.ndarray]
    ) -> None:
        self.edges, self.log_density = edges, log_density
        middles = [0.5 * (one[1:] + one[:-1]) for one in edges]
        self.shape = tuple(map(len, middles))
        lattice = np.stack(np.meshgrid(*middles, indexing="ij"), axis=-1).reshape(-1, len(edges))
        logs = log_density(lattice)
        heights = np.exp(logs - logs.max()).reshape(self.shape)
        volumes = np.ones(())
        for one in edges:
            volumes = np.multiply.outer(volumes, np.diff(one))
        narrow, wide = (h * volumes for h in (heights, maximum_filter(heights, 3)))
        self.masses = (1 - _WIDER) * narrow / narrow.sum() + _WIDER * wide / wide.sum()
        self.log_heights = np.log(self.masses / volumes).ravel()
        self.cumulated = np.cumsum(self.masses.ravel())

    def draw(self, generator: np.random.Generator, count: int) -> tuple[np.ndarray, np.ndarray]:
        """Return places, (n, unknowns), and the log of density over proposal at each."""
        wanted = generator.random(count) * self.cumulated[-1]
        cell = np.searchsorted(self.cumulated, wanted, side="right")
        cell = np.minimum(cell, len(self.cumulated) - 1)
        within = generator.random((count, len(self.edges)))
        place = np.empty_like(within)
        for at, (index, edges) in enumerate(
            zip(np.unravel_index(cell, self.shape), self.edges, strict=True)
        ):
            place[:, at] = edges[index] + within[:, at] * np.diff(edges)[index]
        return place, self.log_density(place) - self.log_heights[cell]
