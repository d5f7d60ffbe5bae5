"""Checks of arguments, in one wording for all rooms."""

from __future__ import annotations

from typing import Any

import numpy as np

from millwright.errors import ArgumentError

__all__ = ["check_positive", "check_whole"]


def check_whole(name: str, value: Any, least: int, most: int | None = None) -> None:
    """Refuse what is not a whole number of a range, both ends included.

    Raises
    ------
    ArgumentError
        If it is not.
    """
    whole = isinstance(value, int | np.integer) and not isinstance(value, bool)
    if not whole or value < least or (most is not None and value > most):
        ends = f"from {least}" if most is None else f"from {least} to {most}"
        raise ArgumentError(f"`{name}` must be a whole number {ends}, not {value!r}.")


def check_positive(name: str, value: Any) -> float:
    """Return a number that is above 0 and finite.

    Raises
    ------
    ArgumentError
        If it is not.
    """
    number = isinstance(value, int | float | np.number) and not isinstance(value, bool)
    if not number or not 0 < value < np.inf:
        raise ArgumentError(f"`{name}` must be a number above 0, not {value!r}.")
    return float(value)
