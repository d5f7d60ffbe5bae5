"""Numbers as text: no digits that the draws cannot support, no probability of 0 or 1."""

from __future__ import annotations

import math

import numpy as np

__all__ = ["probability_text", "supported", "supported_range"]


def supported(value: float, error: float, least: int = 2) -> str:
    """Return `value` with the decimals that its Monte Carlo standard error supports.

    The error is no larger than one unit of the last digit shown; at least `least` significant
    digits are kept where the error allows none.
    """
    return _rounded(value, _decimals(value, error, least))


def supported_range(low: float, high: float, error: float) -> str:
    """Return `low to high`, both with the same number of decimals.

    The width shows at least one significant digit, and an end that is surely not zero, beyond
    its error, does not look like it: on which side of zero it lies matters.
    """
    decimals = _decimals(high - low, error, 1)
    for end in (low, high):
        sure = np.isfinite(end) and abs(end) > (error if error > 0 else 0.0)
        if end != 0 and sure and abs(end) < 0.5 * 10.0**-decimals:
            decimals = min(-_size(end), decimals + 3)
    return f"{_rounded(low, decimals)} to {_rounded(high, decimals)}"


def _size(value: float) -> int:
    """Return the power of ten of the leading digit."""
    return math.floor(math.log10(abs(value))) if value != 0 and np.isfinite(value) else 0


def _decimals(value: float, error: float, least: int) -> int:
    if value == 0 or not np.isfinite(value):
        return 0
    size = _size(value)
    if not np.isfinite(error) or error <= 0:
        return 3 - size
    return min(max(math.floor(-math.log10(error)), least - 1 - size), 5 - size)


def _rounded(value: float, decimals: int) -> str:
    size = _size(value)
    if not np.isfinite(value) or value == 0:
        return "0" if value == 0 else str(value)
    if size >= 6 or size < -4:
        return f"{value:.{max(0, min(5, decimals + size))}e}"
    text = f"{value:.{max(0, decimals)}f}"
    return text.removeprefix("-") if float(text) == 0 else text


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
