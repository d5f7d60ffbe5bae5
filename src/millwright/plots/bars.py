"""Rows of interval bars, as several figures have them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from matplotlib.axes import Axes

from millwright.draws.intervals import IntervalKind, interval
from millwright.plots.style import BLUE, INK, light_grid

__all__ = ["bars", "label_rows"]


def bars(
    axes: Axes,
    row: float,
    value: np.ndarray,
    level: float,
    kind: IntervalKind,
    colour: str = BLUE,
) -> None:
    """Draw median, 50 % interval and the interval of a level in a row."""
    low, high = interval(value, level, kind)
    inner_low, inner_high = interval(value, 0.5, kind)
    axes.plot([low, high], [row, row], color=colour, lw=1.6, solid_capstyle="butt", zorder=3)
    axes.plot(
        [inner_low, inner_high], [row, row], color=colour, lw=5, solid_capstyle="butt", zorder=3
    )
    axes.plot(np.median(value), row, "o", color="white", mec=INK, ms=6, zorder=4)


def label_rows(axes: Axes, names: Sequence[str]) -> None:
    """Name the rows from the top down, and mark zero where it is in view."""
    axes.set_yticks(range(len(names)), list(names))
    axes.tick_params(axis="y", labelsize=7 if len(names) > 30 else 10.5)
    axes.set_ylim(len(names) - 0.4, -0.6)
    axes.margins(x=0.06)
    left, right = axes.get_xlim()
    if left < 0 < right:
        axes.axvline(0, color=INK, ls=":", lw=1, zorder=1)
    light_grid(axes, "x")
    axes.tick_params(axis="y", length=0)
    axes.spines["left"].set_visible(False)
