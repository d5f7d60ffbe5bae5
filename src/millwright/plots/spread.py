"""The spread of curves: a median line in two bands."""

from __future__ import annotations

from matplotlib.axes import Axes

from millwright.plots.style import tint
from millwright.studies.curve_bands import Curves

__all__ = ["draw_spread"]


def draw_spread(axes: Axes, curves: Curves, colour: str) -> None:
    """Draw the outer band, the central 68 % and the median of curves."""
    for share, (low, high) in zip((0.22, 0.45), (curves.outer, curves.inner), strict=True):
        axes.fill_between(curves.x, low, high, color=tint(colour, share), lw=0)
    axes.plot(curves.x, curves.median, color=colour, lw=1.6)
