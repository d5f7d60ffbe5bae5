"""Exact integrals over independent shares with beta distributions.

P(B > A) is the integral of A's density times B's survival; a marginal likelihood of counts is a
ratio of beta functions (Gelman et al. 2013, "Bayesian Data Analysis", section 2.4). Over-dispersed
counts follow a beta-binomial distribution, whose integral over the share has no closed form.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from scipy.special import (
    betainc,
    betaincc,
    betaincinv,
    betaln,
    gammaln,
    logsumexp,
    xlog1py,
    xlogy,
)

from millwright.studies.pieces import pieces

__all__ = ["Beta", "chance_larger", "log_choices", "log_dispersed", "log_evidence"]

_RULE = np.polynomial.legendre.leggauss(20)
_FEW = np.polynomial.legendre.leggauss(6)
_SMALLEST = 1e-7
_NEGLIGIBLE = np.log(1e-9)
_TOLERANCE = 1e-7
_ROUNDS = 8
_SHARES: tuple[float, ...] = (
    *(0.0, 1e-12, 1e-8, 1e-5, 1e-3, 0.02, 0.1, 0.3, 0.5, 0.7, 0.9, 0.98, 0.999),
    *(1 - 1e-5, 1 - 1e-8, 1 - 1e-12, 1.0),
)


@dataclass(frozen=True)
class Beta:
    """A beta distribution: weights of success and of failure."""

    alpha: float
    beta: float

    def below(self, share: np.ndarray) -> np.ndarray:
        """Return the probability of smaller shares."""
        return betainc(self.alpha, self.beta, share)

    def quantile(self, below: np.ndarray) -> np.ndarray:
        """Return the shares below which so much lies."""
        return betaincinv(self.alpha, self.beta, below)

    def log_density(self, share: np.ndarray) -> np.ndarray:
        """Return the log density of shares."""
        inside = xlogy(self.alpha - 1, share) + xlog1py(self.beta - 1, -share)
        return inside - betaln(self.alpha, self.beta)

    def chance_above(self, share: float) -> float:
        """Return the probability of a larger share."""
        return float(betaincc(self.alpha, self.beta, share))

    def after(self, successes: float, failures: float) -> Beta:
        """Return the posterior after counts."""
        return Beta(self.alpha + successes, self.beta + failures)


def chance_larger(one: Beta, other: Beta) -> float:
    """Return the probability that a share of `one` is larger than an independent one of `other`.

    The integral runs over the distribution function of `one`, so that spikes at 0 or 1 do no harm.
    """
    # Corners where the other's distribution function turns, seen from this one's.
    corners = one.below(other.quantile(np.array(_SHARES[1:-1])))
    edges = np.unique(np.concatenate([_SHARES, corners[(corners > 0) & (corners < 1)]]))
    nodes, weights = pieces(edges, _RULE)
    return float(np.clip(weights @ other.below(one.quantile(nodes)), 0.0, 1.0))


def log_choices(successes: np.ndarray, trials: np.ndarray) -> float:
    """Return the log number of ways to have these successes, over all rows."""
    return float(
        np.sum(gammaln(trials + 1) - gammaln(successes + 1) - gammaln(trials - successes + 1))
    )


def log_evidence(prior: Beta, successes: np.ndarray, trials: np.ndarray) -> float:
    """Return the log marginal likelihood of the rows of one share."""
    after = prior.after(float(successes.sum()), float((trials - successes).sum()))
    inside = betaln(after.alpha, after.beta) - betaln(prior.alpha, prior.beta)
    return float(log_choices(successes, trials) + inside)


def log_dispersed(
    priors: Sequence[Beta],
    successes: Sequence[np.ndarray],
    trials: Sequence[np.ndarray],
    log_prior: Callable[[np.ndarray], np.ndarray],
    corners: Sequence[float],
) -> tuple[float, float]:
    """Return the log marginal likelihood of groups of over-dispersed rows, and its error.

    Each group has a share of its own; all share an over-dispersion rho: rows are beta-binomial
    with weights share (1 - rho) / rho and (1 - share) (1 - rho) / rho. The pieces of rho that
    count are halved until that changes nothing.

    Parameters
    ----------
    priors, successes, trials
        Prior of the share, and rows, of each group.
    log_prior, corners
        Log density of the prior of rho, and quantiles of it from one end to the other.
    """
    groups = [_Rows.of(*row) for row in zip(priors, successes, trials, strict=True)]

    def log_piece(low: float, high: float) -> float:
        rho, weights = pieces(np.array([low, high]), _FEW)
        # Nearer to an end than this nothing changes, but digits are lost.
        kept = np.clip(rho, _SMALLEST, 1 - _SMALLEST)
        total = np.asarray(log_prior(rho), dtype=float)
        for group in groups:
            total = total + np.array([group.log_evidence(float(one)) for one in kept])
        return float(logsumexp(total, b=weights))

    edges = np.unique(corners)
    found = {pair: log_piece(*pair) for pair in pairwise(edges.tolist())}
    changed = np.inf
    for _ in range(_ROUNDS):
        whole = logsumexp(list(found.values()))
        finer: dict[tuple[float, float], float] = {}
        for (low, high), value in found.items():
            if value - whole < _NEGLIGIBLE:
                finer[low, high] = value
                continue
            middle = 0.5 * (low + high)
            finer |= {pair: log_piece(*pair) for pair in ((low, middle), (middle, high))}
        found = finer
        changed = abs(float(logsumexp(list(found.values()))) - float(whole))
        if changed < _TOLERANCE:
            break
    return float(logsumexp(list(found.values()))), changed


@dataclass(frozen=True)
class _Rows:
    """The rows of one group: how often each number of successes, failures and trials occurs.

    Rising factorials of each are summed once a number, since many rows share it.
    """

    prior: Beta
    won: tuple[np.ndarray, np.ndarray]
    lost: tuple[np.ndarray, np.ndarray]
    tried: tuple[np.ndarray, np.ndarray]
    choices: float
    share: np.ndarray
    weights: np.ndarray

    @classmethod
    def of(cls, prior: Beta, won: np.ndarray, tried: np.ndarray) -> _Rows:
        middle = (won.sum() + 1) / (tried.sum() + 2)
        spread = np.sqrt(middle * (1 - middle) / (tried.sum() + 3))
        around = middle + spread * np.array([-30, -10, -5, -2.5, -1, 0, 1, 2.5, 5, 10, 30])
        ends = np.array([0, 1e-6, 1e-3, 0.02, 0.1, 0.25, 0.5, 0.75, 0.9, 0.98, 0.999, 1 - 1e-6, 1])
        edges = np.unique(np.clip(np.concatenate([ends, around]), 0, 1))
        share, weights = pieces(edges, _RULE)
        return cls(
            prior=prior,
            won=np.unique(won, return_counts=True),
            lost=np.unique(tried - won, return_counts=True),
            tried=np.unique(tried, return_counts=True),
            choices=log_choices(won, tried),
            share=share,
            weights=weights,
        )

    def log_evidence(self, rho: float) -> float:
        """Return the log marginal likelihood at an over-dispersion."""
        size = (1 - rho) / rho
        base = self.prior.log_density(self.share)
        total = base + _rising(self.won, self.share * size)
        total += _rising(self.lost, (1 - self.share) * size)
        all_trials = float(_rising(self.tried, np.array([size]))[0])
        return float(self.choices - all_trials + logsumexp(total, b=self.weights))


def _rising(counted: tuple[np.ndarray, np.ndarray], start: np.ndarray) -> np.ndarray:
    """Return the sum of log(start (start + 1) ... (start + k - 1)) over numbers k."""
    numbers, times = counted
    return times @ (gammaln(numbers[:, None] + start) - gammaln(start))
