"""Checks of what several studies take."""

from __future__ import annotations

from typing import Any

import numpy as np

from millwright.errors import ArgumentError

__all__ = ["check_number"]


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
