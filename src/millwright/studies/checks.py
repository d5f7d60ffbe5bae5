"""Checks of what several studies take."""

from __future__ import annotations

from typing import Any

import numpy as np

from millwright.errors import ArgumentError

__all__ = ["check_from_zero", "check_number"]


def check_from_zero(name: str, value: Any) -> None:
    """Refuse what is not a finite number from 0.

    Raises
    ------
    ArgumentError
        If it is not.
    """
    check_number(name, value)
    if value < 0:
        raise ArgumentError(f"`{name}` must be a number from 0, not {value!r}.")


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
