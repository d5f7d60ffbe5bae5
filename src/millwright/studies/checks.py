"""Checks of what several studies take."""

from __future__ import annotations

from typing import Any

import numpy as np

from millwright.errors import ArgumentError

__all__ = ["check_number", "check_region"]


def check_number(name: str, value: Any) -> None:
    """Refuse what is not a finite number.

    Raises
    ------
    ArgumentError
        If it is not.
    """
    real = isinstance(value, int | float | np.integer | np.floating)
    if not real or isinstance(value, bool) or not np.isfinite(value):
        raise ArgumentError(f"`{name}` must be a finite number, not {value!r}.")


def check_region(name: str, region: Any) -> None:
    """Refuse what is not a region from low to high.

    Raises
    ------
    ArgumentError
        If it is not.
    """
    try:
        low, high = (float(end) for end in region)
    except (TypeError, ValueError) as error:
        raise ArgumentError(
            f"`{name}` is a pair (low, high) of numbers, not {region!r}."
        ) from error
    if not (np.isfinite([low, high]).all() and low < high):
        raise ArgumentError(f"`{name}` must go from low to high, both finite; it is {region!r}.")
