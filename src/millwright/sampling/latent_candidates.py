"""Candidates for a posterior with latent values: a grid over the others, and Laplace given these.

One candidate in twenty takes the other unknowns from the prior, so that mass which the grid missed
would be met, and show in the weights.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from millwright.cores import available_cores
from millwright.diagnostics.smoothing import smoothed_log_weights
from millwright.errors import SamplingError
from millwright.sampling.grown_grid import GrownGrid, grown
from millwright.sampling.latent_mode import Around, LatentSplit, Search, modes_of, rests_apart
from millwright.sampling.streams import Stream, generator_of
from millwright.sampling.target import TargetDensity
from millwright.wording import setting

__all__ = ["LatentCandidates", "WeightedCandidates"]

_STARTS = 64
_NEIGHBOURS = 6
_CLIMBS = 8
_CLIMB = 150
_ACCURATE = 0.05
_PILOT = 512
_OF_PRIOR = 0.05
"""Share of the candidates that take the other unknowns from the prior."""

_CONVEX = -1e-6
_SAME = 1e-6


@dataclass(frozen=True, kw_only=True)
class WeightedCandidates:
    """Candidates: positions (n, dimension), log densities and log weights, both (n,)."""

    positions: np.ndarray
    log_density: np.ndarray
    log_weights: np.ndarray

    @property
    def efficiency(self) -> float:
        """Share of the candidates that as many equal weights would be worth."""
        weights = np.exp(self.log_weights - self.log_weights.max())
        return float(weights.sum() ** 2 / (weights**2).sum() / len(weights))

    @property
    def pareto_k(self) -> float:
        """Shape of the weights' tail; below 0.7 they are even enough."""
        finite = self.log_weights[np.isfinite(self.log_weights)]
        return float(smoothed_log_weights(finite)[1]) if len(finite) else np.inf


class LatentCandidates:
    """Where candidates come from; all of it follows from the target and a seed."""

    def __init__(self, target: TargetDensity, split: LatentSplit, seed: int) -> None:
        self.target = target
        self.split = split
        self.seed = seed

    @cached_property
    def _first(self) -> np.ndarray:
        """Draws of the other unknowns from the prior, shape (starts, others)."""
        return self._of_prior(generator_of(self.seed, Stream.GRID, 0), _STARTS)

    def _of_prior(self, generator: np.random.Generator, n: int) -> np.ndarray:
        draws = self.target.prior_draws
        assert draws is not None
        return draws(generator, n)[:, self.split.others]

    @cached_property
    def _around(self) -> Search:
        apart = rests_apart(self.target, self.split, self._first[0])
        return modes_of(self.target, self.split, apart)

    @cached_property
    def grid(self) -> GrownGrid:
        """The grid over the other unknowns.

        Raises
        ------
        SamplingError
            If the likelihood is not log-concave in the latent values, or the grid has no end.
        """
        scales = np.maximum(self._first.std(axis=0), 1e-3)
        return grown(self._look, self._peaks(scales), scales)

    @cached_property
    def pilot(self) -> WeightedCandidates:
        """Some hundred candidates, by which the others are judged."""
        return self.draw(generator_of(self.seed, Stream.GRID, 1), _PILOT, available_cores())

    def draw(self, generator: np.random.Generator, n: int, threads: int = 1) -> WeightedCandidates:
        """Return n candidates."""
        theta, cells = self.grid.draw(generator, n)
        of_prior = generator.random(n) < _OF_PRIOR
        theta[of_prior] = self._of_prior(generator, n)[of_prior]
        noise = generator.standard_normal((n, len(self.split.latent)))
        guess = np.where(of_prior[:, None], 0.0, self.grid.marks[cells])
        found = self._at(theta, guess, noise, threads)
        log_grid = self.grid.log_density(theta)
        with np.errstate(invalid="ignore"):
            proposed = np.logaddexp(
                np.log1p(-_OF_PRIOR) + log_grid, np.log(_OF_PRIOR) + found.log_prior_drawn
            )
            weights = found.log_ratio - proposed
        positions = np.empty((n, self.target.dimension))
        positions[:, self.split.others], positions[:, self.split.latent] = theta, found.draws
        return WeightedCandidates(
            positions=positions,
            log_density=found.log_density,
            log_weights=np.where(np.isfinite(weights), weights, -np.inf),
        )

    def _at(self, theta: np.ndarray, guess: np.ndarray, noise: np.ndarray, threads: int) -> Around:
        """Search for modes at points.

        Raises
        ------
        SamplingError
            If the likelihood is not log-concave in the latent values at one of them.
        """
        found = self._around(theta, guess, noise, threads)
        curvature = np.nan_to_num(found.curvature)
        if curvature.min(initial=0.0) < _CONVEX:
            raise SamplingError(
                "The likelihood is not log-concave in the latent values, which may have several "
                "modes then; a grid with Laplace's approximation would see one of them. Use "
                f"{setting('method', 'no_u_turn')}."
            )
        return found

    def _look(self, theta: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return log masses, and the modes of the standard steps, to begin searches at."""
        nowhere = np.zeros((len(theta), len(self.split.latent)))
        found = self._at(theta, nowhere, nowhere, available_cores())
        masses = np.where(np.isfinite(found.log_marginal), found.log_marginal, -np.inf)
        return masses, np.nan_to_num(found.modes)

    def _peaks(self, scales: np.ndarray) -> np.ndarray:
        """Climb by values from draws of the prior; return the ends, the highest first."""
        if not len(scales):
            return np.zeros((1, 0))
        values, _ = self._look(self._first)
        if not np.isfinite(values).any():
            raise SamplingError(
                f"At none of {_STARTS} draws from the prior has the posterior a finite density; "
                f"{setting('method', 'no_u_turn')} says more."
            )
        starts = _summits(self._first / scales, values)[:_CLIMBS]
        with ThreadPoolExecutor(available_cores()) as pool:
            ends = list(pool.map(lambda at: self._climb(self._first[at], scales), starts))
        ends.sort(key=lambda end: end[0])
        return np.array([place for _, place in ends])

    def _climb(self, start: np.ndarray, scales: np.ndarray) -> tuple[float, np.ndarray]:
        """Return the negative of the highest log mass found, and where it is."""
        # Heavy, and not needed for other methods.
        from scipy import optimize

        corners = np.vstack([np.zeros(len(scales)), 0.5 * np.diag(scales)])
        end = optimize.minimize(
            lambda q: -float(self._look(q[None])[0][0]),
            start,
            method="Nelder-Mead",
            options={
                "initial_simplex": start + corners,
                "maxfev": _CLIMB * len(scales),
                "xatol": _ACCURATE,
                "fatol": _ACCURATE,
            },
        )
        return float(end.fun), np.asarray(end.x)

    def check(self) -> None:
        """Check that the density in parts is the whole density.

        Raises
        ------
        SamplingError
            If it is not: latent values that do not rest linearly on each other, say.
        """
        pilot = self.pilot
        finite = np.isfinite(pilot.log_weights)
        whole = self.target.plain(pilot.positions)[finite]
        parts = pilot.log_density[finite]
        if not np.allclose(whole, parts, rtol=_SAME, atol=_SAME):
            raise SamplingError(
                "The latent values are not normal given the other unknowns: a grid cannot take "
                f"this model. Use {setting('method', 'no_u_turn')}."
            )


def _summits(places: np.ndarray, values: np.ndarray) -> np.ndarray:
    """Return which places are higher than all of their nearest neighbours, the highest first."""
    apart = ((places[:, None] - places) ** 2).sum(axis=2)
    near = np.argsort(apart, axis=1)[:, : _NEIGHBOURS + 1]
    summits = np.flatnonzero((values >= values[near].max(axis=1)) & np.isfinite(values))
    return summits[np.argsort(-values[summits], kind="stable")]
