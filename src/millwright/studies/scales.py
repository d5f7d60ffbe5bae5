"""Numbers of default priors, taken from the data by a stated rule and rounded."""

from __future__ import annotations

import math

import numpy as np

from millwright.errors import DataError
from millwright.language.printing import number_text

__all__ = ["middle_and_spread", "rounded_middle", "rounded_spread", "spread_text"]


def middle_and_spread(values: np.ndarray, name: str) -> tuple[float, float]:
    """Return mean and standard deviation of a column, rounded for use in priors.

    Raises
    ------
    DataError
        If there are fewer than two values, or all are the same.
    """
    if len(values) < 2:
        raise DataError(f"`{name}` has {len(values)} value; a study needs two or more.")
    spread = float(np.std(values, ddof=1))
    if not spread > 1e-12 * float(np.abs(values).max()):
        raise DataError(
            f"All {len(values)} values of `{name}` are {values[0]:g}: without any spread there is "
            "nothing to estimate."
        )
    return rounded_middle(float(np.mean(values)), spread), rounded_spread(spread)


def rounded_middle(middle: float, spread: float) -> float:
    """Return a location to a hundredth of the spread."""
    return round(middle, 2 - math.floor(math.log10(spread))) + 0.0


def rounded_spread(spread: float) -> float:
    """Return a spread with three significant digits."""
    return float(f"{spread:.3g}")


def spread_text(spread: float) -> str:
    """Return a spread as the model language writes it, with three significant digits."""
    return number_text(rounded_spread(spread))
