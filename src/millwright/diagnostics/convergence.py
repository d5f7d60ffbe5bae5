"""R-hat, effective sample size and Monte Carlo standard errors.

After Vehtari, Gelman, Simpson, Carpenter and Buerkner (2021), "Rank-normalization, folding,
and localization: an improved R-hat for assessing convergence of MCMC", Bayesian Analysis
16(2). Arrays have shape (chains, draws, quantities); results have shape (quantities,). Constant
quantities, and draws that are not finite, give NaN. At least four draws a chain are needed.
"""

from __future__ import annotations

import numpy as np
from scipy.special import betaincinv

from millwright.diagnostics.arrays import (
    autocovariance,
    ranked_normal,
    split_chains,
    unusable,
)

__all__ = [
    "ess_bulk",
    "ess_mean",
    "ess_quantile",
    "ess_tail",
    "mcse_mean",
    "mcse_quantile",
    "mcse_sd",
    "r_hat",
]

FEWEST_DRAWS = 4


def r_hat(x: np.ndarray) -> np.ndarray:
    """Rank-normalised split R-hat: the larger of that of the draws and of their spread.

    1 means that the chains agree; larger means that they do not.
    """
    if x.shape[1] < FEWEST_DRAWS:
        return np.full(x.shape[-1], np.nan)
    split = split_chains(x)
    folded = np.abs(split - np.median(split.reshape(-1, x.shape[-1]), axis=0))
    result = np.maximum(_plain_r_hat(ranked_normal(split)), _plain_r_hat(ranked_normal(folded)))
    return np.where(unusable(x), np.nan, result)


def _plain_r_hat(x: np.ndarray) -> np.ndarray:
    """Square root of total over within variance (Vehtari et al. 2021, eq. 1 to 4)."""
    draws = x.shape[1]
    between = draws * x.mean(axis=1).var(axis=0, ddof=1)
    within = x.var(axis=1, ddof=1).mean(axis=0)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.sqrt((draws - 1) / draws + between / within / draws)


def _ess(x: np.ndarray) -> np.ndarray:
    """Effective sample size of the mean (Vehtari et al. 2021, section 3.2).

    The sum of autocorrelations stops where a pair first turns negative, and pairs are made to
    decrease (Geyer 1992, initial monotone sequence).
    """
    chains, draws, quantities = x.shape
    covariance = autocovariance(x).mean(axis=0) * draws / (draws - 1)
    within = covariance[:, 0]
    total = within * (draws - 1) / draws
    if chains > 1:
        total = total + x.mean(axis=1).var(axis=0, ddof=1)
    with np.errstate(divide="ignore", invalid="ignore"):
        rho = 1 - (within[:, None] - covariance) / total[:, None]
    rho[:, 0] = 1.0
    pairs = rho[:, : 2 * (draws // 2)].reshape(quantities, -1, 2).sum(axis=-1)
    # The last draws of a chain say too little about long lags.
    pairs = pairs[:, : max(1, (draws - 1) // 2)]
    positive = np.logical_and.accumulate(pairs > 0, axis=1)
    kept = np.where(positive, np.minimum.accumulate(pairs, axis=1), 0.0)
    tau = 2 * kept.sum(axis=1) - 1
    # The first term after the last kept pair improves antithetic chains.
    count = positive.sum(axis=1)
    after = rho[np.arange(quantities), np.minimum(2 * count, draws - 1)]
    tau = tau + np.where(count < pairs.shape[1], np.maximum(after, 0.0), 0.0)
    size = chains * draws
    return size / np.maximum(tau, 1 / np.log10(size))


def _guarded_ess(x: np.ndarray, transformed: np.ndarray) -> np.ndarray:
    if x.shape[1] < FEWEST_DRAWS:
        return np.full(x.shape[-1], np.nan)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(unusable(x), np.nan, _ess(split_chains(transformed)))


def ess_bulk(x: np.ndarray) -> np.ndarray:
    """Effective sample size of the rank-normalised draws: how well the middle is known."""
    return _guarded_ess(x, ranked_normal(x))


def ess_mean(x: np.ndarray) -> np.ndarray:
    """Effective sample size for the mean."""
    return _guarded_ess(x, x)


def ess_quantile(x: np.ndarray, probability: float) -> np.ndarray:
    """Effective sample size for a quantile: that of the indicator of lying below it."""
    cut = np.quantile(x.reshape(-1, x.shape[-1]), probability, axis=0)
    below = (x <= cut).astype(float)
    result = _guarded_ess(x, below)
    flat = unusable(below) & ~unusable(x)
    return np.where(flat, float(x.shape[0] * x.shape[1]), result)


def ess_tail(x: np.ndarray) -> np.ndarray:
    """Smaller of the effective sample sizes of the 5 % and the 95 % quantile."""
    return np.minimum(ess_quantile(x, 0.05), ess_quantile(x, 0.95))


def mcse_mean(x: np.ndarray) -> np.ndarray:
    """Monte Carlo standard error of the mean: sd / sqrt(ESS)."""
    return x.reshape(-1, x.shape[-1]).std(axis=0, ddof=1) / np.sqrt(ess_mean(x))


def mcse_sd(x: np.ndarray) -> np.ndarray:
    """Monte Carlo standard error of the standard deviation.

    By the delta method from the variance of the squared deviations, with the smaller effective
    sample size of the mean and of those deviations.
    """
    flat = x.reshape(-1, x.shape[-1])
    squared = (x - flat.mean(axis=0)) ** 2
    ess = np.fmin(ess_mean(x), ess_mean(squared))
    variance = flat.var(axis=0)
    fourth = (squared.reshape(flat.shape) ** 2).mean(axis=0)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.sqrt((fourth - variance**2) / ess / variance / 4)


def mcse_quantile(x: np.ndarray, probability: float) -> np.ndarray:
    """Monte Carlo standard error of a quantile.

    Half the distance between the draws at the 16 % and 84 % points of the beta distribution of
    the probability below the quantile (Vehtari et al. 2021, section 4.4).
    """
    flat = np.sort(x.reshape(-1, x.shape[-1]), axis=0)
    ess = ess_quantile(x, probability)
    size = len(flat)
    safe = np.where(np.isfinite(ess), ess, 1.0)
    edges = [
        betaincinv(safe * probability + 1, safe * (1 - probability) + 1, share)
        for share in (0.1586553, 0.8413447)
    ]
    low = np.clip(np.floor(edges[0] * size).astype(int) - 1, 0, size - 1)
    high = np.clip(np.ceil(edges[1] * size).astype(int) - 1, 0, size - 1)
    columns = np.arange(flat.shape[1])
    width = (flat[high, columns] - flat[low, columns]) / 2
    return np.where(np.isfinite(ess), width, np.nan)
