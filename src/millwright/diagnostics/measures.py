"""Convergence numbers of each quantity, all at once."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, fields
from typing import Any

import numpy as np

from millwright.diagnostics.arrays import QuantityBlock, by_blocks
from millwright.diagnostics.convergence import (
    block_bulk_size,
    block_scale_reduction,
    block_tail_size,
)
from millwright.diagnostics.pareto import heavier_tail

__all__ = ["R_HAT_MOST", "Measures", "measure", "measure_each"]

R_HAT_MOST = 1.01
_FAR = 8.0


@dataclass(frozen=True)
class Measures:
    """Convergence numbers of each quantity; arrays have one entry a name.

    Attributes
    ----------
    medians, spreads
        Median and interquartile range of each chain, shape (chains, names); NaN for quantities
        about which the chains agree.
    halves
        Median of the first and of the second half of each chain, shape (2, chains, names),
        likewise.
    finite
        Whether all draws are finite.
    tails, tail_errors
        Pareto k of the heavier tail, with its standard error; 0 where no draw lies 8
        interquartile ranges out.
    """

    names: tuple[str, ...]
    scale_reduction: np.ndarray
    bulk_size: np.ndarray
    tail_size: np.ndarray
    medians: np.ndarray
    spreads: np.ndarray
    halves: np.ndarray
    finite: np.ndarray
    tails: np.ndarray
    tail_errors: np.ndarray

    def without(self, known: Collection[str]) -> Measures:
        """Return the numbers of the quantities that are not parts of definitions so named."""
        at = [row for row, name in enumerate(self.names) if name.split("[")[0] not in known]
        numbers = (getattr(self, f.name)[..., at] for f in fields(Measures)[1:])
        return Measures(tuple(self.names[row] for row in at), *numbers)


def measure(draws: Mapping[Any, np.ndarray]) -> Measures:
    """Return the convergence numbers of named draws, each of shape (chains, draws)."""
    names = tuple(draws)
    found = by_blocks([draws[name] for name in names], _numbers)
    return Measures(names, *(np.concatenate(part, axis=-1) for part in zip(*found, strict=True)))


def measure_each(fits: Sequence[Mapping[str, np.ndarray]]) -> list[Measures]:
    """Return the convergence numbers of several fits, whose draws have one shape, at once."""
    together = measure({(at, name): v for at, one in enumerate(fits) for name, v in one.items()})
    result, first = [], 0
    for one in fits:
        part = slice(first, first + len(one))
        first += len(one)
        numbers = (getattr(together, f.name)[..., part] for f in fields(Measures)[1:])
        result.append(Measures(tuple(one), *numbers))
    return result


def _numbers(block: QuantityBlock) -> tuple[np.ndarray, ...]:
    agreement = block_scale_reduction(block)
    odd = agreement > R_HAT_MOST
    quartiles = np.full((3, *block.x.shape[:2]), np.nan)
    halves = np.full((2, *block.x.shape[:2]), np.nan)
    if odd.any():
        quartiles[:, odd] = np.quantile(block.x[odd], [0.25, 0.5, 0.75], axis=-1)
        half = block.x.shape[-1] // 2
        halves[0, odd] = np.median(block.x[odd, :, :half], axis=-1)
        halves[1, odd] = np.median(block.x[odd, :, half:], axis=-1)
    low, middle, high = quartiles
    return (
        agreement,
        block_bulk_size(block),
        block_tail_size(block),
        middle.T,
        (high - low).T,
        halves.transpose(0, 2, 1),
        block.finite,
        *_tails(block),
    )


def _tails(block: QuantityBlock) -> tuple[np.ndarray, np.ndarray]:
    """Fit the tails of quantities with draws far out; tails of others are light."""
    found = np.zeros((2, len(block.x)))
    middle = block.quantile(0.5)
    reach = np.maximum(block.ordered[:, -1] - middle, middle - block.ordered[:, 0])
    far = reach > _FAR * (block.quantile(0.75) - block.quantile(0.25))
    for row in np.flatnonzero(far & ~block.unusable):
        found[:, row] = heavier_tail(block.ordered[row])
    return found[0], found[1]
