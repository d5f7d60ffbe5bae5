"""How long a chain remembers: autocorrelation and the integrated autocorrelation time."""

from __future__ import annotations

import numpy as np

from millwright.diagnostics.arrays import autocovariance
from millwright.diagnostics.convergence import mean_size

__all__ = ["autocorrelations", "integrated_time"]


def autocorrelations(value: np.ndarray, most: int) -> np.ndarray:
    """Return autocorrelations of lag 0 to `most` of several chains together.

    Covariances are taken against the variance over all chains (Vehtari et al. 2021, eq. 10):
    chains that stay in places of their own do not look independent.

    Parameters
    ----------
    value
        Draws of one quantity, shape (chains, draws).

    Returns
    -------
    Shape (most + 1,); fewer where there are not so many draws.
    """
    chains, draws = value.shape
    covariance = autocovariance(value[None])[0, : most + 1]
    covariance = covariance * draws / (draws - 1)
    between = value.mean(axis=1).var(ddof=1) if chains > 1 else 0.0
    total = covariance[0] * (draws - 1) / draws + between
    with np.errstate(divide="ignore", invalid="ignore"):
        found = 1 - (covariance[0] - covariance) / total
    found[0] = 1.0
    return np.asarray(found)


def integrated_time(x: np.ndarray) -> np.ndarray:
    """Return the integrated autocorrelation time: how many draws are worth one independent one.

    1 + 2 times the sum of autocorrelations (Sokal 1997, eq. 2.16); below 1 where successive
    draws lie on opposite sides of the mean. Shape (chains, draws, quantities) to (quantities,).
    """
    return np.asarray(x.shape[0] * x.shape[1] / mean_size(x))
