"""Rows of the data that repeat others though chance hardly makes them do so."""

from __future__ import annotations

import numpy as np

from millwright.modelling.arguments import family_of
from millwright.modelling.binding import Binding
from millwright.modelling.specification import Part

__all__ = ["repeated_rows"]

_FEWEST = 2
_MASS = 3
_BEYOND_CHANCE = 5.0


def repeated_rows(binding: Binding) -> tuple[int, int]:
    """Return how many rows repeat another in all columns that the model uses, of how many.

    Only outcomes that are numbers on a fine scale are looked at: coarse ones, counts and labels
    repeat by themselves, and so do values with a mass of their own, such as a limit at which
    readings are censored: those that more than three rows share are left out. The number of rows
    that agree by chance is put at n^2 / 2 over the number of values that the outcome's scale has
    between its quartiles, times two; rows are reported where five times as many agree.
    """
    for part in binding.program.outcomes:
        family = family_of(part.family, part.arguments)
        axes = dict(binding.program.outcome_axes)[part.name]
        if part.event != "number" or family.whole or len(axes) != 1:
            continue
        seen = np.asarray(binding.arguments["observed", part.name])
        count = _repeated(binding, part, seen, axes[0])
        if count >= _FEWEST and count > _BEYOND_CHANCE * _by_chance(seen):
            return count, len(seen)
    return 0, 0


def _repeated(binding: Binding, part: Part, seen: np.ndarray, axis: str) -> int:
    _, first, shared = np.unique(seen, return_inverse=True, return_counts=True)
    rows = np.flatnonzero((shared[first] > 1) & (shared[first] <= _MASS))
    if not len(rows):
        return 0
    codes = [first[rows]]
    used = set(binding.program.column_axes)
    for name, column in binding.tables.columns.items():
        if name in used and column.axes == (axis,) and name != part.name:
            if len(column.values) != len(seen):
                return 0
            codes.append(_codes(column.values[rows]))
    return len(rows) - len(np.unique(np.stack(codes, axis=1), axis=0))


def _codes(values: np.ndarray) -> np.ndarray:
    """Return numbers that are the same where values are."""
    if values.dtype != object:
        return np.unique(values, return_inverse=True)[1]
    # Loads half a second: numbers alone do without it.
    import pandas as pd

    return np.asarray(pd.factorize(values)[0])


def _by_chance(seen: np.ndarray) -> float:
    low, high = np.quantile(seen, [0.25, 0.75])
    if high <= low:
        return np.inf
    return float(0.5 * len(seen) ** 2 * _rounded_to(seen) / (2 * (high - low)))


def _rounded_to(seen: np.ndarray) -> float:
    """Return the decimal step that all values are multiples of, down to 10^-9."""
    for decimals in range(-3, 10):
        scaled = seen * 10.0**decimals
        if np.allclose(scaled, np.round(scaled), rtol=0, atol=1e-6):
            return 10.0**-decimals
    return 1e-9
