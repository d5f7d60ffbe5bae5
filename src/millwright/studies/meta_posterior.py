"""Effect and spread of several trials, by quadrature; the effects of trials are integrated out.

The estimate of trial i is normal around its own effect with the standard error s_i, and that
effect normal around the common one with the sd `spread`: together

    y_i ~ normal(effect, sqrt(s_i^2 + spread^2))

(DerSimonian and Laird 1986; Higgins, Thompson and Spiegelhalter 2009, "A re-evaluation of
random-effects meta-analysis"). Given the spread, the likelihood of the effect is a normal density;
what is left are an integral over the effect and one over the spread, by Gauss-Legendre quadrature
piece by piece.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from scipy.special import log_ndtr, logsumexp

from millwright.distributions import on_numpy
from millwright.distributions.location_scale import Normal
from millwright.distributions.truncation import Truncated
from millwright.draws.known_priors import KnownPrior
from millwright.studies.grid_density import GridDensity
from millwright.studies.pieces import Rule, pieces

__all__ = [
    "MetaPosterior",
    "Trials",
    "log_prior",
    "normal_log_density",
    "range_of",
    "weighed_places",
]

_RULE = np.polynomial.legendre.leggauss(24)
_COARSER_RULE = np.polynomial.legendre.leggauss(16)
_MIXTURE_RULE = np.polynomial.legendre.leggauss(8)
_PER_PIECE = 13
_SHARES = np.concatenate(
    [
        [0, 1e-12, 1e-8, 1e-5, 1e-3, 0.01, 0.05, 0.15, 0.3, 0.5, 0.7, 0.85, 0.95, 0.99, 0.999],
        [1 - 1e-5, 1 - 1e-8, 1 - 1e-12, 1],
    ]
)
_AWAY = np.array([0.0, 1.0, 2.0, 3.5, 5.0, 7.0, 10.0, 14.0, 20.0, 40.0, 1e2, 1e3, 1e4, 1e6])
_POWERS = 2.0 ** np.arange(-14, 15)
_CELLS = 8
_TOGETHER = 1_000_000
_NOTHING_LEFT = 34.0


@dataclass(frozen=True)
class Trials:
    """Estimates and their standard errors, shape (trials,) each."""

    estimates: np.ndarray
    errors: np.ndarray

    def __len__(self) -> int:
        return len(self.estimates)

    @property
    def scale(self) -> float:
        """A rough size of spreads that the estimates could show."""
        return float(max(np.median(self.errors), np.std(self.estimates)))

    def given(self, spread: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Return what the likelihood is as a function of the effect, for spreads (n,).

        Returns
        -------
        Mean and variance of a normal density in the effect, and the log of its constant.
        """
        variances = self.errors**2 + np.square(spread)[:, None]
        weights = 1 / variances
        total = weights.sum(axis=1)
        mean = weights @ self.estimates / total
        apart = np.sum(weights * (self.estimates - mean[:, None]) ** 2, axis=1)
        logs = np.log(2 * np.pi * variances).sum(axis=1)
        return mean, 1 / total, -0.5 * (logs + apart - np.log(2 * np.pi / total))

    def log_likelihood(self, effects: np.ndarray, spreads: np.ndarray) -> np.ndarray:
        """Return the log likelihood of effects and spreads, of the shape they broadcast to."""
        total = np.zeros(np.broadcast_shapes(effects.shape, spreads.shape))
        for estimate, error in zip(self.estimates, self.errors, strict=True):
            total += normal_log_density(estimate, effects, error**2 + spreads**2)
        return total

    def shrunken(
        self, effect: np.ndarray, spread: np.ndarray, generator: np.random.Generator
    ) -> np.ndarray:
        """Return draws of the trials' own effects, (draws, trials), given effect and spread."""
        return self._pulled(effect[:, None], spread, generator)

    def only(self, rows: np.ndarray) -> Trials:
        """Return some of the trials."""
        return Trials(self.estimates[rows], self.errors[rows])

    def unknowns(
        self, effect: np.ndarray, spread: np.ndarray, generator: np.random.Generator
    ) -> dict[str, np.ndarray]:
        """Return draws of further unknowns, given draws of effect and spread: there are none."""
        return {}

    def _pulled(
        self, middle: np.ndarray, spread: np.ndarray, generator: np.random.Generator
    ) -> np.ndarray:
        """Return draws of own effects around `middle`, (draws, trials)."""
        within, between = self.errors**2, np.square(spread)[:, None]
        share = between / (between + within)
        mean = share * self.estimates + (1 - share) * middle
        sd = np.sqrt(share * within)
        return mean + sd * generator.standard_normal(mean.shape)


def log_prior(prior: KnownPrior, values: np.ndarray) -> np.ndarray:
    """Return the log density of a prior; minus infinity outside its range."""
    with np.errstate(all="ignore"):
        found = np.asarray(prior.family.log_density(on_numpy, values, prior.values), dtype=float)
    return np.where(np.isnan(found), -np.inf, found)


def _corners(prior: KnownPrior) -> np.ndarray:
    """Return finite quantiles of a prior, from one end of its range to the other."""
    with np.errstate(all="ignore"):
        found = prior.quantiles(*_SHARES)
    return np.unique(found[np.isfinite(found)])


def range_of(prior: KnownPrior) -> tuple[float, float]:
    """Return the ends of a prior's range."""
    support = prior.family.support(prior.values)
    low = -np.inf if support.lower is None else float(support.lower)
    return low, np.inf if support.upper is None else float(support.upper)


def weighed_places(
    prior: KnownPrior, edges: np.ndarray, rule: Rule
) -> tuple[np.ndarray, np.ndarray]:
    """Return places of a number and the logs of their weights, its prior among them."""
    places, weights = pieces(edges, rule)
    return places, np.log(weights) + log_prior(prior, places)


def normal_log_density(x: np.ndarray, mean: np.ndarray, variance: np.ndarray) -> np.ndarray:
    """Return the log density of normal distributions."""
    return -0.5 * ((x - mean) ** 2 / variance + np.log(2 * np.pi * variance))


@dataclass(frozen=True)
class _NormalPrior:
    """A normal prior, possibly cut at either end: its integrals are known."""

    location: float
    scale: float
    low: float
    high: float

    @property
    def whole(self) -> bool:
        return bool(np.isinf(self.low) and np.isinf(self.high))

    def after(self, mean: np.ndarray, variance: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return mean and sd of the uncut prior times normal densities."""
        within = 1 / (1 / variance + 1 / self.scale**2)
        return within * (mean / variance + self.location / self.scale**2), np.sqrt(within)

    def log_integral(self, mean: np.ndarray, variance: np.ndarray) -> np.ndarray:
        """Return logs of the integrals of the prior times normal densities."""
        whole = normal_log_density(np.full(1, self.location), mean, variance + self.scale**2)
        if self.whole:
            return whole
        centre, sd = self.after(mean, variance)
        inside = _log_between((self.low - centre) / sd, (self.high - centre) / sd)
        ends = (np.array([end - self.location]) / self.scale for end in (self.low, self.high))
        return whole + inside - _log_between(*ends)


def _log_between(low: np.ndarray, high: np.ndarray) -> np.ndarray:
    """Return log(Phi(high) - Phi(low)), exact in both tails."""
    turned = low > 0
    first, last = np.where(turned, -high, low), np.where(turned, -low, high)
    with np.errstate(divide="ignore"):
        return log_ndtr(last) + np.log1p(-np.exp(log_ndtr(first) - log_ndtr(last)))


def _normal_prior(prior: KnownPrior) -> _NormalPrior | None:
    """Return a normal prior, cut or whole; None for another family."""
    family, values = prior.family, prior.values
    cut = isinstance(family, Truncated)
    if not isinstance(family.family if isinstance(family, Truncated) else family, Normal):
        return None
    ends = (values.get("low", -np.inf), values.get("high", np.inf)) if cut else (-np.inf, np.inf)
    return _NormalPrior(values["location"], values["scale"], *map(float, ends))


@dataclass(frozen=True, kw_only=True)
class MetaPosterior:
    """One model of the trials.

    Attributes
    ----------
    effect
        Prior of the effect; None for no effect.
    spread
        Prior of the spread; None for none.
    """

    trials: Trials
    effect: KnownPrior | None = field(repr=False)
    spread: KnownPrior | None = field(repr=False)

    @property
    def _first_spread_edges(self) -> np.ndarray:
        """Ends of pieces that resolve the prior of the spread, and sizes around the data's."""
        assert self.spread is not None
        corners = _corners(self.spread)
        farthest = 1e5 * self.trials.scale + 10 * corners[len(corners) // 2]
        low, high = corners[0], min(corners[-1], farthest)
        marks = np.concatenate([corners, self.trials.scale * _POWERS])
        return np.unique([low, *marks[(marks > low) & (marks < high)], high])

    def _spread_nodes(self, rule: Rule) -> tuple[np.ndarray, np.ndarray]:
        """Return spreads and the logs of their weights, the prior among them."""
        if self.spread is None:
            return np.zeros(1), np.zeros(1)
        return weighed_places(self.spread, self.of_spread.edges, rule)

    def log_over_effects(self, spread: np.ndarray, rule: Rule = _RULE) -> np.ndarray:
        """Return the log likelihood of spreads, the effect integrated over its prior."""
        mean, variance, constant = self.trials.given(spread)
        if self.effect is None:
            return constant + normal_log_density(np.zeros(1), mean, variance)
        plain = _normal_prior(self.effect)
        if plain is not None:
            return constant + plain.log_integral(mean, variance)
        edges = self._effect_edges(mean, variance)
        half = 0.5 * np.diff(edges, axis=1)[:, :, None]
        nodes = edges[:, :-1, None] + half * (1 + rule[0])
        logs = log_prior(self.effect, nodes) + normal_log_density(
            nodes, mean[:, None, None], variance[:, None, None]
        )
        with np.errstate(divide="ignore"):
            return constant + logsumexp(logs, b=half * rule[1], axis=(1, 2))

    def _effect_edges(self, mean: np.ndarray, variance: np.ndarray) -> np.ndarray:
        """Return ends of the pieces of the integrals over the effect, shape (spreads, ends)."""
        assert self.effect is not None
        corners = _corners(self.effect)
        around = np.concatenate([-_AWAY[::-1], _AWAY[1:]]) * np.sqrt(variance)[:, None]
        around = np.clip(mean[:, None] + around, *range_of(self.effect))
        inner = np.broadcast_to(corners, (len(mean), len(corners)))
        # Beyond the farthest of these nothing is left of the likelihood.
        inner = np.clip(inner, around[:, :1], around[:, -1:])
        return np.sort(np.concatenate([around, inner], axis=1), axis=1)

    @cached_property
    def _evidences(self) -> tuple[float, float]:
        found = []
        for rule in (_RULE, _COARSER_RULE):
            nodes, weights = self._spread_nodes(rule)
            found.append(float(logsumexp(weights + self.log_over_effects(nodes, rule))))
        return found[0], found[1]

    @property
    def log_evidence(self) -> float:
        """Logarithm of the evidence."""
        return self._evidences[0]

    @property
    def error(self) -> float:
        """How far a coarser rule is from it."""
        return abs(self._evidences[0] - self._evidences[1])

    @cached_property
    def of_spread(self) -> GridDensity:
        """The posterior of the spread."""
        prior = self.spread
        assert prior is not None
        return GridDensity(
            log_density=lambda tau: log_prior(prior, tau) + self.log_over_effects(tau),
            edges=self._first_spread_edges,
            per_piece=_PER_PIECE,
        ).refined(2)

    @cached_property
    def _mixture(self) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """Weights over the spread, and the normal density and integral of each."""
        nodes, weights = self._spread_nodes(_MIXTURE_RULE)
        inside = self.log_over_effects(nodes)
        share = weights + inside
        kept = share > share.max() - _NOTHING_LEFT
        mean, variance, constant = self.trials.given(nodes[kept])
        return share[kept] - logsumexp(share), mean, variance, inside[kept] - constant

    def log_effect_density(self, effect: np.ndarray) -> np.ndarray:
        """Return the log posterior density of the effect at places (n,)."""
        assert self.effect is not None
        share, mean, variance, inside = self._mixture
        logs = share - inside - 0.5 * np.log(2 * np.pi * variance)
        weights = np.exp(logs - logs.max())
        found = []
        for part in np.array_split(effect, max(1, len(effect) * len(share) // _TOGETHER)):
            falls = -0.5 * (part[:, None] - mean) ** 2 / variance
            top = falls.max(axis=1)
            with np.errstate(divide="ignore"):
                found.append(np.log(np.exp(falls - top[:, None]) @ weights) + top)
        return log_prior(self.effect, effect) + np.concatenate(found) + logs.max()

    @cached_property
    def of_effect(self) -> GridDensity:
        """The posterior of the effect."""
        assert self.effect is not None
        share, mean, variance, _ = self._mixture
        corners = _corners(self.effect)
        width = np.sqrt(variance)
        weight = np.exp(share)
        middle = float(weight @ mean / weight.sum())
        spread = float(np.sqrt(weight @ (variance + (mean - middle) ** 2) / weight.sum()))
        first, last = range_of(self.effect)
        low = max(first, min(corners[0], float(np.min(mean - 40 * width))))
        high = min(last, max(corners[-1], float(np.max(mean + 40 * width))))
        away = np.concatenate([-_AWAY[::-1], _AWAY[1:], [-0.5, 0.5, -1.5, 1.5]])
        marks = np.concatenate([corners, middle + away * spread, middle + 0.3 * away * spread])
        edges = np.unique([low, *marks[(marks > low) & (marks < high)], high])
        return GridDensity(
            log_density=self.log_effect_density, edges=edges, per_piece=_PER_PIECE
        ).refined()

    def draws(self, generator: np.random.Generator, count: int) -> dict[str, np.ndarray]:
        """Return independent draws of the unknowns that the model has."""
        found: dict[str, np.ndarray] = {}
        spread = np.zeros(count)
        if self.spread is not None:
            spread = self.of_spread.quantile(generator.random(count))
            found["spread"] = spread
        if self.effect is not None:
            found["effect"] = self._effects_given(spread, generator)
        effect = found.get("effect", np.zeros(count))
        further = self.trials.unknowns(effect, spread, generator)
        if self.spread is None:
            further.pop("own", None)
        return {**found, **further}

    def _effects_given(self, spread: np.ndarray, generator: np.random.Generator) -> np.ndarray:
        """Draw effects given spreads, by inverting their distributions on fine cells."""
        assert self.effect is not None
        mean, variance, _ = self.trials.given(spread)
        plain = _normal_prior(self.effect)
        if plain is not None and plain.whole:
            centre, sd = plain.after(mean, variance)
            return centre + sd * generator.standard_normal(len(spread))
        edges = self._effect_edges(mean, variance)
        steps = np.linspace(0, 1, _CELLS + 1)[:-1]
        cells = (edges[:, :-1, None] + np.diff(edges, axis=1)[:, :, None] * steps).reshape(
            len(spread), -1
        )
        cells = np.concatenate([cells, edges[:, -1:]], axis=1)
        logs = log_prior(self.effect, cells) + normal_log_density(
            cells, mean[:, None], variance[:, None]
        )
        heights = np.exp(logs - logs.max(axis=1, keepdims=True))
        masses = np.diff(cells, axis=1) * 0.5 * (heights[:, 1:] + heights[:, :-1])
        cumulated = np.cumsum(masses, axis=1)
        wanted = generator.random(len(spread)) * cumulated[:, -1]
        at = np.minimum((cumulated < wanted[:, None]).sum(axis=1), masses.shape[1] - 1)
        rows = np.arange(len(spread))
        left = wanted - (cumulated[rows, at] - masses[rows, at])
        return _within_cell(
            left, cells[rows, at], cells[rows, at + 1], heights[rows, at], heights[rows, at + 1]
        )


def _within_cell(
    left: np.ndarray, low: np.ndarray, high: np.ndarray, first: np.ndarray, last: np.ndarray
) -> np.ndarray:
    """Return where a mass `left` of a density that runs straight across a cell is reached."""
    width = high - low
    slope = (last - first) / np.where(width > 0, width, 1.0)
    root = np.sqrt(np.maximum(first**2 + 2 * slope * left, 0.0))
    # The form of the quadratic formula that does not cancel.
    step = 2 * left / np.where(first + root > 0, first + root, 1.0)
    return low + np.clip(step, 0.0, width)
