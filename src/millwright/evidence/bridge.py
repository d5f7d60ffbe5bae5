"""Bridge sampling with the halves of the draws in turn fitted and evaluated.

Meng and Wong (1996), "Simulating ratios of normalizing constants via a simple identity",
Statistica Sinica 6, in the iterative form; standard error after Frühwirth-Schnatter (2004),
Econometrics Journal 7. A proposal that is fitted to the draws on which it is evaluated is biased
by about -d (d + 3) / (4 ESS), which no standard error shows: so it is fitted to one half of every
chain, evaluated on the other, both ways, and averaged.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.linalg import solve_triangular
from scipy.special import logsumexp

from millwright.diagnostics.convergence import mean_size
from millwright.errors import SamplingError

__all__ = ["Bridge", "Values", "bridge"]

Values = Callable[[np.ndarray], np.ndarray]
"""Log densities at positions of shape (n, dimension)."""

_ROUNDS = 1000
_SETTLED = 1e-10


@dataclass(frozen=True, kw_only=True)
class Bridge:
    """An estimate of the logarithm of an integral.

    Attributes
    ----------
    log_value, standard_error
        The estimate, and its standard error from the spread of the terms.
    gap
        How far the two halves are apart, in standard errors of that difference.
    share
        Effective share of the proposal's draws as an importance sample, the smaller of the two:
        how well a normal distribution covers the posterior.
    """

    log_value: float
    standard_error: float
    gap: float
    share: float


def bridge(positions: np.ndarray, log_density: Values, generator: np.random.Generator) -> Bridge:
    """Estimate the log integral of a density from its draws.

    Parameters
    ----------
    positions
        Draws of shape (chains, draws, dimension).
    log_density
        The unnormalised density that they are of.

    Raises
    ------
    SamplingError
        If there are too few draws to fit a normal distribution to half of them.
    """
    chains, draws, dimension = positions.shape
    half = draws // 2
    if half * chains < 4 * (dimension + 2):
        raise SamplingError(
            f"{chains * draws} draws of {dimension} unknown numbers are too few for an evidence: "
            f"at least {8 * (dimension + 2)} are needed."
        )
    halves = (positions[:, :half], positions[:, draws - half :])
    first = _one_way(*halves, log_density, generator)
    second = _one_way(*halves[::-1], log_density, generator)
    errors = np.array([first.standard_error, second.standard_error])
    apart = abs(first.log_value - second.log_value) / max(float(np.hypot(*errors)), 1e-300)
    return Bridge(
        log_value=0.5 * (first.log_value + second.log_value),
        standard_error=0.5 * float(np.hypot(*errors)),
        gap=float(apart),
        share=min(first.share, second.share),
    )


def _one_way(
    fitted: np.ndarray, judged: np.ndarray, log_density: Values, generator: np.random.Generator
) -> Bridge:
    """Fit the proposal to some draws, and build the bridge with the others."""
    dimension = fitted.shape[-1]
    flat = fitted.reshape(-1, dimension)
    centre = flat.mean(axis=0)
    factor = np.linalg.cholesky(_covariance(flat - centre))
    size = judged.shape[0] * judged.shape[1]
    z = generator.standard_normal((size, dimension))
    proposed = centre + z @ factor.T
    constant = -0.5 * dimension * np.log(2 * np.pi) - np.log(np.diag(factor)).sum()

    def log_proposal(positions: np.ndarray) -> np.ndarray:
        away = solve_triangular(factor, (positions - centre).T, lower=True)
        return np.asarray(constant - 0.5 * np.sum(away**2, axis=0))

    points = judged.reshape(-1, dimension)
    of_draws = log_density(points) - log_proposal(points)
    of_proposal = log_density(proposed) - (constant - 0.5 * np.sum(z**2, axis=1))
    of_proposal[np.isnan(of_proposal)] = -np.inf
    return _ratio(of_draws.reshape(judged.shape[:2]), of_proposal)


def _covariance(away: np.ndarray) -> np.ndarray:
    """Return the covariance matrix, kept positive where a number hardly varies."""
    found = away.T @ away / len(away)
    return np.asarray(found + 1e-12 * np.diag(np.diag(found) + 1e-300))


def _ratio(of_draws: np.ndarray, of_proposal: np.ndarray) -> Bridge:
    """Iterate the estimate, given log ratios of density to proposal at both samples."""
    shift = float(np.median(of_draws))
    l1, l2 = of_draws.reshape(-1) - shift, of_proposal - shift
    size = float(np.clip(mean_size(of_draws[:, :, None])[0], 1.0, len(l1)))
    if np.isnan(size):
        # All ratios are alike: the proposal is the posterior.
        size = float(len(l1))
    s1, s2 = size / (size + len(l2)), len(l2) / (size + len(l2))
    value = 0.0
    for _ in range(_ROUNDS):
        above = l2 - np.logaddexp(np.log(s1) + l2, np.log(s2) + value)
        below = -np.logaddexp(np.log(s1) + l1, np.log(s2) + value)
        following = float(logsumexp(above) - np.log(len(l2)) - logsumexp(below) + np.log(len(l1)))
        settled = abs(following - value) < _SETTLED
        value = following
        if settled:
            break
    f1 = np.exp(-np.logaddexp(np.log(s1) + l1, np.log(s2) + value)).reshape(of_draws.shape)
    f2 = np.exp(l2 - np.logaddexp(np.log(s1) + l2, np.log(s2) + value))
    return Bridge(
        log_value=value + shift,
        standard_error=float(np.sqrt(_relative(f1, _size(f1)) + _relative(f2, len(f2)))),
        gap=0.0,
        share=float(np.exp(2 * logsumexp(l2) - logsumexp(2 * l2)) / len(l2)),
    )


def _size(terms: np.ndarray) -> float:
    found = float(mean_size(terms[:, :, None])[0])
    return min(found, float(terms.size)) if np.isfinite(found) else float(terms.size)


def _relative(terms: np.ndarray, size: float) -> float:
    """Return the squared relative error of a mean of terms worth `size` independent ones."""
    return float(terms.var() / (size * terms.mean() ** 2))
