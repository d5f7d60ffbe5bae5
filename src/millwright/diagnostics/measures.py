"""Convergence numbers of each quantity, all at once."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from millwright.diagnostics.arrays import Block, by_blocks
from millwright.diagnostics.convergence import block_ess_bulk, block_ess_tail, block_r_hat

__all__ = ["R_HAT_MOST", "Measures", "measure"]

R_HAT_MOST = 1.01


@dataclass(frozen=True)
class Measures:
    """Convergence numbers of each quantity; arrays have one entry a name.

    Attributes
    ----------
    medians, spreads
        Median and interquartile range of each chain, shape (chains, names); NaN for quantities
        about which the chains agree.
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
    found = by_blocks([draws[name] for name in names], _numbers)
    return Measures(names, *(np.concatenate(part, axis=-1) for part in zip(*found, strict=True)))


def _numbers(block: Block) -> tuple[np.ndarray, ...]:
    agreement = block_r_hat(block)
    odd = agreement > R_HAT_MOST
    quartiles = np.full((3, *block.x.shape[:2]), np.nan)
    quartiles[:, odd] = np.quantile(block.x[odd], [0.25, 0.5, 0.75], axis=-1)
    low, middle, high = quartiles
    return (
        agreement,
        block_ess_bulk(block),
        block_ess_tail(block),
        middle.T,
        (high - low).T,
        block.finite,
    )
