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
    QuantityBlock,
    autocovariance,
    by_blocks,
    first_autocovariances,
    split_chains,
)

__all__ = [
    "FEWEST_DRAWS",
    "block_bulk_size",
    "block_mean_size",
    "block_tail_size",
    "block_mean_error",
    "block_quantile_error",
    "block_sd_error",
    "block_scale_reduction",
    "bulk_size",
    "mean_size",
    "quantile_size",
    "tail_size",
    "mean_error",
    "quantile_error",
    "sd_error",
    "scale_reduction",
]

FEWEST_DRAWS = 4
_FIRST_LAGS = 16


def scale_reduction(x: np.ndarray) -> np.ndarray:
    """Rank-normalised split R-hat: the larger of that of the draws and of their spread.

    1 means that the chains agree; larger means that they do not.
    """
    return np.concatenate(by_blocks(x, block_scale_reduction))


def bulk_size(x: np.ndarray) -> np.ndarray:
    """Effective sample size of the rank-normalised draws: how well the middle is known."""
    return np.concatenate(by_blocks(x, block_bulk_size))


def mean_size(x: np.ndarray) -> np.ndarray:
    """Effective sample size for the mean."""
    return np.concatenate(by_blocks(x, block_mean_size))


def quantile_size(x: np.ndarray, probability: float) -> np.ndarray:
    """Effective sample size for a quantile: that of the indicator of lying below it."""
    return np.concatenate(by_blocks(x, lambda block: _quantile_size(block, probability)))


def tail_size(x: np.ndarray) -> np.ndarray:
    """Smaller of the effective sample sizes of the 5 % and the 95 % quantile."""
    return np.concatenate(by_blocks(x, block_tail_size))


def mean_error(x: np.ndarray) -> np.ndarray:
    """Monte Carlo standard error of the mean: sd / sqrt(ESS)."""
    return np.concatenate(by_blocks(x, block_mean_error))


def sd_error(x: np.ndarray) -> np.ndarray:
    """Monte Carlo standard error of the standard deviation.

    By the delta method from the variance of the squared deviations and their own effective
    sample size; that of the mean enters in second order only.
    """
    return np.concatenate(by_blocks(x, block_sd_error))


def quantile_error(x: np.ndarray, probability: float) -> np.ndarray:
    """Monte Carlo standard error of a quantile.

    Half the distance between the draws at the 16 % and 84 % points of the beta distribution of
    the probability below the quantile (Vehtari et al. 2021, section 4.4).
    """
    return np.concatenate(by_blocks(x, lambda block: block_quantile_error(block, probability)))


def block_scale_reduction(block: QuantityBlock) -> np.ndarray:
    """R-hat of a block of quantities."""
    draws = block.x.shape[-1]
    if draws < FEWEST_DRAWS:
        return np.full(len(block.x), np.nan)
    # An even number of draws loses none by splitting, and keeps its ranks.
    whole = QuantityBlock(split_chains(block.x)) if draws % 2 else block
    result = np.maximum(
        _plain_r_hat(split_chains(whole.scores) if whole is block else whole.scores),
        _plain_r_hat(split_chains(whole.folded_scores) if whole is block else whole.folded_scores),
    )
    return np.where(block.unusable, np.nan, result)


def _plain_r_hat(x: np.ndarray) -> np.ndarray:
    """Square root of total over within variance (Vehtari et al. 2021, eq. 1 to 4)."""
    draws = x.shape[-1]
    between = draws * x.mean(axis=-1).var(axis=-1, ddof=1)
    within = x.var(axis=-1, ddof=1).mean(axis=-1)
    return np.asarray(np.sqrt((draws - 1) / draws + between / within / draws))


def block_bulk_size(block: QuantityBlock) -> np.ndarray:
    """Effective sample size of the rank-normalised draws of a block of quantities."""
    return _guarded_ess(block, block.scores)


def block_mean_size(block: QuantityBlock) -> np.ndarray:
    """Effective sample size for the means of a block of quantities."""
    return _guarded_ess(block, block.x)


def block_tail_size(block: QuantityBlock) -> np.ndarray:
    """Effective sample size of the tails of a block of quantities."""
    return np.asarray(np.minimum(_quantile_size(block, 0.05), _quantile_size(block, 0.95)))


def _quantile_size(block: QuantityBlock, probability: float) -> np.ndarray:
    below = (block.x <= block.quantile(probability)[:, None, None]).astype(float)
    result = _guarded_ess(block, below)
    never_varies = (below == below[:, :1, :1]).all(axis=(1, 2)) & ~block.unusable
    return np.where(never_varies, float(block.flat.shape[1]), result)


def _guarded_ess(block: QuantityBlock, transformed: np.ndarray) -> np.ndarray:
    if block.x.shape[-1] < FEWEST_DRAWS:
        return np.full(len(block.x), np.nan)
    split = split_chains(transformed)
    constant = (split == split[:, :1, :1]).all(axis=(1, 2))
    return np.where(block.unusable | constant, np.nan, _ess(split))


def _ess(x: np.ndarray) -> np.ndarray:
    """Effective sample size of the mean (Vehtari et al. 2021, section 3.2).

    The sum of autocorrelations stops where a pair first turns negative, and pairs are made to
    decrease (Geyer 1992, initial monotone sequence).
    """
    # Most sums end after a few lags: transforms are for the others.
    lags = min(_FIRST_LAGS, x.shape[-1])
    result, ended = _ess_from(x, first_autocovariances(x, lags))
    longer = np.flatnonzero(~ended)
    if len(longer):
        result[longer], _ = _ess_from(x[longer], autocovariance(x[longer]))
    return result


def _ess_from(x: np.ndarray, covariance: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return effective sample sizes, and where the sum ended within the lags that are given."""
    quantities, chains, draws = x.shape
    covariance = covariance * draws / (draws - 1)
    within = covariance[:, 0]
    total = within * (draws - 1) / draws
    if chains > 1:
        total = total + x.mean(axis=-1).var(axis=-1, ddof=1)
    rho = 1 - (within[:, None] - covariance) / total[:, None]
    rho[:, 0] = 1.0
    # The last draws of a chain say too little about long lags.
    most = max(1, (draws - 1) // 2)
    even = 2 * (rho.shape[1] // 2)
    pairs = (rho[:, :even:2] + rho[:, 1:even:2])[:, :most]
    negative = ~(pairs > 0)
    ended = negative.any(axis=1)
    count = np.where(ended, negative.argmax(axis=1), pairs.shape[1])
    kept = np.minimum.accumulate(pairs, axis=1)
    kept[np.arange(pairs.shape[1]) >= count[:, None]] = 0.0
    tau = 2 * kept.sum(axis=1) - 1
    # The first term after the last kept pair improves antithetic chains.
    after = rho[np.arange(quantities), np.minimum(2 * count, rho.shape[1] - 1)]
    tau = tau + np.where(count < most, np.maximum(after, 0.0), 0.0)
    size = chains * draws
    return np.asarray(size / np.maximum(tau, 1 / np.log10(size))), ended


def block_mean_error(block: QuantityBlock) -> np.ndarray:
    """Monte Carlo standard errors of the means of a block of quantities."""
    return np.asarray(block.flat.std(axis=1, ddof=1) / np.sqrt(block_mean_size(block)))


def block_sd_error(block: QuantityBlock) -> np.ndarray:
    """Monte Carlo standard errors of the standard deviations of a block of quantities."""
    squared = (block.x - block.flat.mean(axis=1)[:, None, None]) ** 2
    ess = block_mean_size(QuantityBlock(squared))
    variance = block.flat.var(axis=1)
    fourth = (squared**2).mean(axis=(1, 2))
    return np.asarray(np.sqrt((fourth - variance**2) / ess / variance / 4))


def block_quantile_error(block: QuantityBlock, probability: float) -> np.ndarray:
    """Monte Carlo standard errors of a quantile of a block of quantities."""
    ess = _quantile_size(block, probability)
    size = block.flat.shape[1]
    safe = np.where(np.isfinite(ess), ess, 1.0)
    edges = [
        betaincinv(safe * probability + 1, safe * (1 - probability) + 1, share)
        for share in (0.1586553, 0.8413447)
    ]
    low = np.clip(np.floor(edges[0] * size).astype(int) - 1, 0, size - 1)
    high = np.clip(np.ceil(edges[1] * size).astype(int) - 1, 0, size - 1)
    rows = np.arange(len(block.ordered))
    width = (block.ordered[rows, high] - block.ordered[rows, low]) / 2
    return np.where(np.isfinite(ess), width, np.nan)
