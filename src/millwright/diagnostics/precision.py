"""How many draws a wanted precision needs."""

from __future__ import annotations

import numpy as np

from millwright.diagnostics.convergence import mean_error, quantile_error

__all__ = ["draws_needed"]


def draws_needed(
    x: np.ndarray, within: float, quantile: float | None = None
) -> tuple[np.ndarray, np.ndarray]:
    """Return Monte Carlo standard errors now, and the draws a chain that make them `within`.

    A Monte Carlo standard error shrinks with the square root of the number of draws (Geyer
    1992, section 2; for quantiles Raftery and Lewis 1992).

    Parameters
    ----------
    x
        Draws of shape (chains, draws, quantities).
    within
        The standard error that is wanted, in the unit of the quantity.
    quantile
        Probability below the quantile; the mean if None.

    Returns
    -------
    Both of shape (quantities,).
    """
    error = mean_error(x) if quantile is None else quantile_error(x, quantile)
    needed = np.ceil(x.shape[1] * (error / within) ** 2)
    return error, needed
