"""Differences of all pairs of groups as intervals, one row a pair."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from matplotlib.axes import Axes

from millwright.draws.intervals import IntervalKind, interval
from millwright.plots.style import BLUE, GREEN, GREY, INK, light_grid, tint
from millwright.wording import visible

__all__ = ["pair_intervals"]

_MOST_PAIRS = 15


def pair_intervals(
    axes: Axes,
    differences: Mapping[str, np.ndarray],
    level: float,
    kind: IntervalKind,
    region: tuple[float, float] | None,
    title: str,
) -> None:
    """Draw medians and intervals of draws of differences, the first fifteen, over a region."""
    shown = list(differences.items())[:_MOST_PAIRS]
    if region is not None:
        axes.axvspan(*region, color=tint(GREEN, 0.4), lw=0, zorder=0)
    axes.axvline(0, color=GREY, ls="--", lw=1.2)
    for at, (_, values) in enumerate(shown):
        low, high = interval(values.reshape(-1), level, kind)
        axes.plot([low, high], [at, at], color=BLUE, lw=3)
        axes.plot(np.median(values), at, "o", color="white", mec=INK)
    axes.set_yticks(range(len(shown)), [visible(name) for name, _ in shown])
    axes.set_ylim(len(shown) - 0.5, -0.5)
    cut = f" (the first {len(shown)} of {len(differences)})" * (len(differences) > len(shown))
    axes.set_title(f"{title}{cut}")
    light_grid(axes, "x")
