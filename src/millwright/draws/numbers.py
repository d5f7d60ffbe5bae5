"""Numbers as text: no digits that the draws cannot support, no probability of 0 or 1."""

from __future__ import annotations

import math

import numpy as np

__all__ = ["probability_text", "supported"]


def supported(value: float, error: float, least: int = 2) -> str:
    """Return `value` with the decimals that its Monte Carlo standard error supports.

    At least `least` significant digits are kept where the error allows none.
    """
    if not np.isfinite(value):
        return str(value)
    if value == 0:
        return "0"
    size = math.floor(math.log10(abs(value)))
    if not np.isfinite(error) or error <= 0:
        decimals = 3 - size
    else:
        decimals = max(math.floor(-math.log10(2 * error)), least - 1 - size)
    decimals = min(decimals, 5 - size) if size > -5 else decimals
    if size >= 6 or size < -4:
        return f"{value:.{max(0, min(5, decimals + size))}e}"
    return f"{value:.{max(0, decimals)}f}"


def probability_text(share: float, draws: int) -> str:
    """Return a probability from draws; never 0 or 1, which draws cannot show."""
    if not np.isfinite(share):
        return "nan"
    smallest = 10.0 ** -math.floor(math.log10(max(draws, 10)))
    places = max(2, round(-math.log10(smallest)))
    if share < smallest:
        return f"< {smallest:.{places}f}"
    if share > 1 - smallest:
        return f"> {1 - smallest:.{places}f}"
    return f"{share:.{min(3, places)}f}"
