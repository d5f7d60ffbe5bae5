"""Bands of central intervals along an axis, the wide one behind the narrow one."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from matplotlib.axes import Axes
from scipy.ndimage import gaussian_filter1d

from millwright.plots.style import tint

__all__ = ["bands"]

_SHADES = (0.35, 0.65)
_FINE = 50
"""From so many places on, quantiles of draws that are made place by place are smoothed."""


def bands(
    axes: Axes,
    x: np.ndarray,
    draws: np.ndarray,
    colour: str,
    label: str,
    *,
    levels: Sequence[float] = (0.95, 0.5),
    around: np.ndarray | None = None,
    upright: bool = False,
) -> None:
    """Draw central intervals of draws of shape (draws, places); opaque, as in the legend.

    Parameters
    ----------
    levels
        From the widest to the narrowest.
    around
        A curve from which the draws were made place by place: their distance from it is
        smoothed along `x`, since the ends of the bands would be ragged.
    upright
        Whether `x` runs upwards and the draws lie along the horizontal axis.
    """
    finite = np.where(np.isfinite(draws), draws, np.nan)
    fill = axes.fill_betweenx if upright else axes.fill_between
    shades = _SHADES[-len(levels) :] if len(levels) > 1 else _SHADES[:1]
    for level, shade in zip(levels, shades, strict=True):
        ends = np.nanquantile(finite, [(1 - level) / 2, (1 + level) / 2], axis=0)
        if around is not None and len(x) >= _FINE:
            apart = gaussian_filter1d(ends - around, len(x) / 30, axis=1, mode="nearest")
            ends = around + apart
        words = f"{label}, {100 * level:.0f} %"
        fill(x, *ends, color=tint(colour, shade), lw=0, label=words)
