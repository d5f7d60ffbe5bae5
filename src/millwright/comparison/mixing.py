"""Draws of several models put together, of each a share by its weight."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

__all__ = ["mixed"]


def mixed(parts: Sequence[np.ndarray], weights: Sequence[float], draws: int) -> np.ndarray:
    """Return draws, shape (draws, ...), from those of each model, shape (own draws, ...).

    They are evenly spaced through each model's draws; where more are wanted than there are, some
    come again.
    """
    # Cumulated and rounded, so that the counts sum to what was asked for.
    ends = np.round(np.cumsum([0.0, *weights]) * draws).astype(int)
    taken = []
    for part, first, last in zip(parts, ends[:-1], ends[1:], strict=True):
        at = np.floor((np.arange(last - first) + 0.5) * len(part) / max(last - first, 1))
        taken.append(part[at.astype(int)])
    return np.concatenate(taken)
