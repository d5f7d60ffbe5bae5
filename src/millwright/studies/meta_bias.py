"""Whether trials stayed unpublished by their result, and what the effect is then.

Two kinds of models. Selection: the chance that a trial is seen falls in steps with its p-value
(Vevea and Hedges 1995; the weights relative to the most significant step are ordered uniform
numbers, which is a cumulated Dirichlet prior with all concentrations 1). Regression: estimates
lean on their standard error, or on its square (Stanley and Doucouliagos 2014). Each with and
without an effect and spread; evidences and the effect's density are integrals on fixed places of
effect, spread, and weights or slope.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property
from itertools import product

import numpy as np
from scipy.special import logsumexp, ndtr, ndtri

from millwright.draws.known_priors import KnownPrior
from millwright.studies.meta_posterior import (
    Trials,
    log_prior,
    normal_log_density,
    weighed_places,
)

__all__ = ["BiasModel", "NoBias", "Regression", "Selection", "log_on_grid", "weights_of"]

_STEP_RULES = {
    count: np.polynomial.legendre.leggauss(n) for count, n in ((1, 14), (2, 11), (3, 8))
}
_SLOPE_RULE = np.polynomial.legendre.leggauss(6)
_SLOPE_SHARES = np.array([0, 1e-6, 1e-4, 0.01, 0.1, 0.25, 0.5, 0.75, 0.9, 0.99])
_SLOPE_SHARES = np.concatenate([_SLOPE_SHARES, 1 - _SLOPE_SHARES[:4][::-1]])
_SLOPE_CELLS = np.concatenate([[1e-6, 1e-4], np.linspace(0.005, 0.995, 45), [1 - 1e-4, 1 - 1e-6]])
_RATIO_EDGES = np.array([0, 0.02, 0.05, 0.1, 0.17, 0.25, 0.35, 0.46, 0.6, 0.72, 0.85, 0.93, 1.0])
_MOST_NUMBERS = 500_000
_TOGETHER = 6


@dataclass(frozen=True)
class NoBias:
    """All trials are seen, whatever they show."""

    words: str = "none"

    @property
    def own_edges(self) -> tuple[np.ndarray, ...]:
        """Ends of cells of each unknown of the bias: there is none."""
        return ()

    def parts(
        self, trials: Trials, effects: np.ndarray, spreads: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray]:
        """Return log likelihoods, (spreads, effects, 1), and the log prior weight of the last."""
        return trials.log_likelihood(effects, spreads[:, None])[..., None], np.zeros(1)

    def joint(
        self, trials: Trials, effects: np.ndarray, spreads: np.ndarray, own: np.ndarray
    ) -> np.ndarray:
        """Return log likelihoods of effects and spreads, shape (n,)."""
        return trials.log_likelihood(effects, spreads)


@dataclass(frozen=True)
class Selection:
    """The chance to be seen falls in steps of the p-value.

    Attributes
    ----------
    cuts
        p-values at which it falls, ascending.
    sides
        1: small p-values are of effects in the direction `sign`; 2: of either direction.
    sign
        1 or -1.
    """

    cuts: tuple[float, ...]
    sides: int
    sign: int

    @property
    def words(self) -> str:
        """What the model says."""
        kind = "one-sided" if self.sides == 1 else "two-sided"
        return f"selection, {kind}, p {', '.join(f'{cut:g}' for cut in self.cuts)}"

    @cached_property
    def limits(self) -> np.ndarray:
        """Estimates over standard errors at which the weight falls, descending."""
        return -ndtri(np.array(self.cuts) / self.sides)

    @cached_property
    def steps(self) -> tuple[np.ndarray, np.ndarray]:
        """Places of the ratios of neighbouring weights, (places, cuts), and their log weights."""
        count = len(self.cuts)
        rule = _STEP_RULES[count]
        nodes, weights = 0.5 * (1 + rule[0]), 0.5 * rule[1]
        places = np.array(list(product(nodes, repeat=count)))
        logs = np.array(list(product(np.log(weights), repeat=count))).sum(axis=1)
        # Ratios of ordered uniform numbers: beta(count, 1), beta(count - 1, 1), ...
        powers = np.arange(count, 0, -1)
        return places, logs + (np.log(powers) + (powers - 1) * np.log(places)).sum(axis=1)

    @cached_property
    def weights(self) -> np.ndarray:
        """Chance to be seen in each interval, relative to the first, (places, intervals)."""
        return weights_of(self.steps[0])

    @property
    def one_sided_cuts(self) -> np.ndarray:
        """The one-sided p-values at which the weight changes, ascending."""
        cuts = np.array(self.cuts) / self.sides
        return cuts if self.sides == 1 else np.concatenate([cuts, 1 - cuts[::-1]])

    def seen_between(self, steps: np.ndarray, ratios: np.ndarray) -> np.ndarray:
        """Return chances to be seen, (draws, steps + 1), between one-sided p-values `steps`."""
        middles = 0.5 * (np.concatenate([[0.0], steps]) + np.concatenate([steps, [1.0]]))
        p = middles if self.sides == 1 else 2 * np.minimum(middles, 1 - middles)
        return weights_of(ratios)[:, np.searchsorted(self.cuts, p)]

    def interval_of(self, trials: Trials) -> np.ndarray:
        """Return which interval each trial lies in, 0 the most significant."""
        z = self.sign * trials.estimates / trials.errors
        z = np.abs(z) if self.sides == 2 else z
        return (z[:, None] < self.limits).sum(axis=1)

    def parts(
        self, trials: Trials, effects: np.ndarray, spreads: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray]:
        """Return log likelihoods, (spreads, effects, places), and log prior weights of places."""
        total = trials.log_likelihood(effects, spreads[:, None])[..., None]
        weights, where = self.weights, self.interval_of(trials)
        total = total + np.log(weights[:, where]).sum(axis=1)
        for at in range(0, len(trials), _TOGETHER):
            # A product of few chances is far from underflow, and one logarithm is quicker.
            seen = np.ones_like(total)
            for error in trials.errors[at : at + _TOGETHER]:
                seen *= self._chances(error, effects[None], spreads[:, None]) @ weights.T
            total -= np.log(seen)
        return total, self.steps[1]

    @property
    def own_edges(self) -> tuple[np.ndarray, ...]:
        """Ends of cells of each ratio of neighbouring weights."""
        return (_RATIO_EDGES[:: len(self.cuts)],) * len(self.cuts)

    def joint(
        self, trials: Trials, effects: np.ndarray, spreads: np.ndarray, own: np.ndarray
    ) -> np.ndarray:
        """Return the log likelihood and prior of ratios `own`, (n, cuts), shape (n,)."""
        weights = weights_of(own)
        total = trials.log_likelihood(effects, spreads)
        total += np.log(weights[:, self.interval_of(trials)]).sum(axis=1)
        for error in trials.errors:
            total -= np.log(np.sum(self._chances(error, effects, spreads) * weights, axis=1))
        powers = np.arange(len(self.cuts), 0, -1)
        return total + np.sum(np.log(powers) + (powers - 1) * np.log(own), axis=1)

    def _chances(self, error: float, effects: np.ndarray, spreads: np.ndarray) -> np.ndarray:
        """Return the probability of each interval, as the last axis."""
        wide = np.sqrt(error**2 + spreads**2)[..., None]
        middle = self.sign * effects[..., None]
        above = ndtr((middle - self.limits * error) / wide)
        if self.sides == 2:
            above = above + ndtr((-middle - self.limits * error) / wide)
        first = np.zeros((*above.shape[:-1], 1))
        return np.diff(np.concatenate([first, above, first + 1], axis=-1), axis=-1)


@dataclass(frozen=True)
class Regression:
    """Estimates lean on the standard error, or on its square.

    Attributes
    ----------
    power
        1 or 2.
    text, prior
        Prior of the slope, as it is written and to be computed with.
    """

    power: int
    text: str
    prior: KnownPrior = field(repr=False)

    @property
    def words(self) -> str:
        """What the model says."""
        return "regression on the " + ("error" if self.power == 1 else "squared error")

    @cached_property
    def slopes(self) -> tuple[np.ndarray, np.ndarray]:
        """Places of the slope and their log weights, the prior among them."""
        with np.errstate(all="ignore"):
            marks = self.prior.quantiles(*_SLOPE_SHARES)
        edges = np.unique(marks[np.isfinite(marks)])
        return weighed_places(self.prior, edges, _SLOPE_RULE)

    @property
    def own_edges(self) -> tuple[np.ndarray, ...]:
        """Ends of cells of the slope."""
        with np.errstate(all="ignore"):
            marks = self.prior.quantiles(*_SLOPE_CELLS)
        return (np.unique(marks[np.isfinite(marks)]),)

    def joint(
        self, trials: Trials, effects: np.ndarray, spreads: np.ndarray, own: np.ndarray
    ) -> np.ndarray:
        """Return the log likelihood and prior of slopes `own`, (n, 1), shape (n,)."""
        slope = own[:, 0]
        total = log_prior(self.prior, slope)
        for estimate, error in zip(trials.estimates, trials.errors, strict=True):
            middle = effects + slope * error**self.power
            total += normal_log_density(estimate, middle, error**2 + spreads**2)
        return total

    def parts(
        self, trials: Trials, effects: np.ndarray, spreads: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray]:
        """Return log likelihoods, (spreads, effects, places), and log prior weights of places."""
        places, logs = self.slopes
        total = np.zeros((len(spreads), len(effects), len(places)))
        for estimate, error in zip(trials.estimates, trials.errors, strict=True):
            variance = (error**2 + spreads**2)[:, None, None]
            middle = effects[:, None] + places * error**self.power
            total += normal_log_density(estimate, middle, variance)
        return total, logs


BiasModel = NoBias | Selection | Regression


def weights_of(ratios: np.ndarray) -> np.ndarray:
    """Return chances to be seen, (n, intervals), relative to the first, from their ratios."""
    return np.concatenate([np.ones((len(ratios), 1)), np.cumprod(ratios, axis=1)], axis=1)


def log_on_grid(
    trials: Trials,
    bias: BiasModel,
    effects: np.ndarray,
    spreads: tuple[np.ndarray, np.ndarray],
) -> np.ndarray:
    """Return the log likelihood of effects, spread and bias integrated out, shape (effects,).

    Parameters
    ----------
    spreads
        Places of the spread and their log weights, the prior among them.
    """
    terms = []
    for places, logs in _chunks(spreads, len(effects), bias):
        total, weights = bias.parts(trials, effects, places)
        terms.append(logsumexp(total + weights + logs[:, None, None], axis=(0, 2)))
    return np.asarray(logsumexp(np.stack(terms), axis=0))


def _chunks(
    spreads: tuple[np.ndarray, np.ndarray], effects: int, bias: BiasModel
) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """Yield some spreads at a time, so that no array grows too large."""
    each = effects * _places_of(bias)
    size = max(1, _MOST_NUMBERS // each)
    for at in range(0, len(spreads[0]), size):
        yield spreads[0][at : at + size], spreads[1][at : at + size]


def _places_of(bias: BiasModel) -> int:
    if isinstance(bias, Selection):
        return len(bias.weights)
    return len(bias.slopes[0]) if isinstance(bias, Regression) else 1
