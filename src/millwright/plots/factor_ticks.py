"""Marks on an axis of log Bayes factors."""

from __future__ import annotations

import numpy as np

__all__ = ["factor_ticks"]

_VALUES = (1, 3, 10, 100, 1000, 1e4, 1e6)
_FAR = (1, 1e3, 1e6, 1e9, 1e12)


def factor_ticks(reach: float) -> tuple[list[float], list[str]]:
    """Return places and labels of marks up to a log Bayes factor on both sides of 1."""
    values = _VALUES if reach <= np.log(1e7) else _FAR
    marks = [value for value in values if np.log(value) <= reach]
    ticks = [-float(np.log(v)) for v in marks[:0:-1]] + [float(np.log(v)) for v in marks]
    return ticks, [f"1 / {v:,.0f}" for v in marks[:0:-1]] + [f"{v:,.0f}" for v in marks]
