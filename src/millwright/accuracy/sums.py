"""The sum of log predictive densities over rows or groups, and its standard error."""

from __future__ import annotations

import numpy as np

__all__ = ["sum_error", "sum_text"]


def sum_error(by_row: np.ndarray) -> float:
    """Return the standard error of a sum over rows; NaN for a single one, which tells none.

    Vehtari, Gelman and Gabry (2017), equation 23, with the sample variance (n - 1).
    """
    if by_row.size < 2:
        return float("nan")
    return float(np.sqrt(by_row.size) * by_row.std(ddof=1))


def sum_text(elpd: float, se: float) -> str:
    """Return the sum and its standard error in words."""
    error = f"standard error {se:.1f}" if np.isfinite(se) else "standard error not known"
    return f"elpd {elpd:.1f} ({error}; larger is better)"
