"""The predictive density of values that were left out, from fits with and without them.

Meng and Wong (1996), "Simulating ratios of normalizing constants via a simple identity",
Statistica Sinica 6, equation 4.1: the two posteriors differ by the likelihood of these values
alone, and the ratio of their normalising constants is what is looked for. Averaging the likelihood
over the fit without them is the same in the limit, but rests on few draws where they lie far out.
"""

from __future__ import annotations

import numpy as np
from scipy.optimize import brentq
from scipy.special import expit, logsumexp

from millwright.diagnostics.convergence import mean_size

__all__ = ["bridged"]


def bridged(with_them: np.ndarray, without: np.ndarray) -> tuple[float, float]:
    """Return the log predictive density of values given all others, and its standard error.

    Parameters
    ----------
    with_them, without
        Their log likelihood at draws of the fit with them, and of that without, each of shape
        (chains, draws).

    Returns
    -------
    Both NaN where a draw has no log likelihood, or none of those without them allows the values.
    """
    if np.isnan(with_them).any() or np.isnan(without).any() or not np.isfinite(without).any():
        return float("nan"), float("nan")

    def gap(log_ratio: float) -> float:
        return float(_log_mean(without, log_ratio) - _log_mean(with_them, log_ratio, -1))

    finite = np.concatenate([with_them.ravel(), without[np.isfinite(without)]])
    low, high = finite.min() - 1.0, finite.max() + 1.0
    if gap(low) <= 0 or gap(high) >= 0:
        return float("nan"), float("nan")
    found = float(brentq(gap, low, high, xtol=1e-10))
    parts = [expit(without - found), expit(found - with_them)]
    return found, float(np.sqrt(sum(map(_relative_variance, parts))))


def _log_mean(values: np.ndarray, log_ratio: float, sign: int = 1) -> float:
    """Return the log of the mean of expit(sign (values - log_ratio))."""
    z = sign * (values.ravel() - log_ratio)
    return float(logsumexp(-np.logaddexp(0.0, -z)) - np.log(z.size))


def _relative_variance(terms: np.ndarray) -> float:
    """Return the squared relative Monte Carlo error of a mean."""
    size = float(mean_size(terms[..., None])[0])
    if not np.isfinite(size):
        # Terms that are all alike have no error.
        return 0.0
    return float(terms.var() / terms.mean() ** 2 / size)
