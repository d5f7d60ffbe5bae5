"""Numbers as text: one rounding for one number everywhere, no probability of 0 or 1."""

from __future__ import annotations

import math

import numpy as np

__all__ = [
    "chance_text",
    "decimals_of",
    "fixed",
    "probability_text",
    "range_text",
    "share_text",
    "supported",
]

_MOST = 6
"""Decimals beyond which numbers are written with a power of ten."""


def decimals_of(spread: float) -> int:
    """Return the decimals at which a spread shows two significant digits.

    All numbers about one quantity carry these, so that they can be laid beside each other.
    """
    if not np.isfinite(spread) or spread <= 0:
        return 3
    # 0.0996 rounds to 0.10: the digit before must not be lost.
    return 1 - _size(float(f"{spread:.1e}"))


def fixed(value: float, decimals: int) -> str:
    """Return a number with so many decimals; whole where they are negative."""
    if not np.isfinite(value):
        return str(value)
    if decimals > _MOST or abs(value) >= 1e9:
        digits = max(0, decimals + _size(value)) if value else 1
        return f"{value:.{min(digits, 15)}e}"
    text = f"{value:.{max(0, decimals)}f}"
    return text.removeprefix("-") if float(text) == 0 else text


def range_text(low: float, high: float, spread: float) -> str:
    """Return `low to high`, with the decimals that suit the spread."""
    decimals = decimals_of(spread)
    return f"{fixed(low, decimals)} to {fixed(high, decimals)}"


def supported(value: float, error: float, least: int = 2) -> str:
    """Return `value` with the decimals that its Monte Carlo standard error supports.

    The error is no larger than one unit of the last digit shown; at least `least` significant
    digits are kept where the error allows none.
    """
    if value == 0 or not np.isfinite(value):
        return "0" if value == 0 else str(value)
    size = _size(value)
    if not np.isfinite(error) or error <= 0:
        return fixed(value, 3 - size)
    return fixed(value, min(max(math.floor(-math.log10(error)), least - 1 - size), 5 - size))


def _size(value: float) -> int:
    """Return the power of ten of the leading digit."""
    return math.floor(math.log10(abs(value))) if value != 0 and np.isfinite(value) else 0


def share_text(share: float) -> str:
    """Return a probability with three digits, never as 0 or 1."""
    return probability_text(share, 1000)


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
    shown = f"{share:.{min(3, places)}f}"
    return f"{share:.{places}f}" if float(shown) in (0, 1) else shown


def chance_text(share: float, draws: int = 1000) -> str:
    """Return a probability for a sentence: `0.93`, `above 0.999`; by default with three digits."""
    return probability_text(share, draws).replace("< ", "below ").replace("> ", "above ")
