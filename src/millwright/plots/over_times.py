"""What draws say of each time: a median line in its band, and the labels of times below."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from matplotlib.axes import Axes

from millwright.draws.intervals import interval
from millwright.plots.style import light_grid, tint

__all__ = ["band_over_times", "label_times"]


def band_over_times(axes: Axes, draws: np.ndarray, found: Any, colour: str) -> None:
    """Draw the interval that the findings are told with, and the median, of (draws, times)."""
    x = np.arange(draws.shape[1])
    low, high = interval(draws, found.level, found.kind)
    axes.fill_between(x, low, high, color=tint(colour, 0.4), lw=0)
    axes.plot(x, np.median(draws, axis=0), color=colour, lw=1.6)
    light_grid(axes, "y")


def label_times(axes: Axes, labels: Sequence[str], count: int) -> None:
    """Name so many times, evenly spread, the first and the last among them."""
    places = np.linspace(0, len(labels) - 1, count).astype(int)
    axes.set_xticks(places, [labels[at] for at in places])
