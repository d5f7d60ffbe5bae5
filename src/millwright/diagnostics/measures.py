"""Convergence numbers of each quantity, all at once."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from millwright.diagnostics.convergence import ess_bulk, ess_tail, r_hat

__all__ = ["Measures", "measure"]


@dataclass(frozen=True)
class Measures:
    """Convergence numbers of each quantity; arrays have one entry a name.

    Attributes
    ----------
    medians, spreads
        Median and interquartile range of each chain, shape (chains, names).
    finite
        Whether all draws are finite.
    """

    names: tuple[str, ...]
    r_hat: np.ndarray
    ess_bulk: np.ndarray
    ess_tail: np.ndarray
    medians: np.ndarray
    spreads: np.ndarray
    finite: np.ndarray


def measure(draws: Mapping[str, np.ndarray]) -> Measures:
    """Return the convergence numbers of named draws, each of shape (chains, draws)."""
    names = tuple(draws)
    x = np.stack([draws[name] for name in names], axis=-1)
    # Draws that overflow are named by the verdict.
    with np.errstate(invalid="ignore"):
        low, middle, high = np.quantile(x, [0.25, 0.5, 0.75], axis=1)
        spreads = high - low
        finite = np.isfinite(x).all(axis=(0, 1))
        return Measures(names, r_hat(x), ess_bulk(x), ess_tail(x), middle, spreads, finite)
