"""Densities of one quantity in several fits, in one panel."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from matplotlib.axes import Axes

from millwright.draws.region import density_on
from millwright.plots.style import CHAINS
from millwright.wording import visible

__all__ = ["density_curves", "name_curves"]

_GRID = 300


def density_curves(
    axes: Axes, values: Mapping[str, np.ndarray], order: Sequence[str], width: float
) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    """Draw a density for each fit that has the quantity; return the grid and the heights.

    Parameters
    ----------
    values
        Draws by the name of the fit, shape (draws,).
    order
        Names of all fits: the place there gives colour and dashes.
    """
    ends = np.array([np.quantile(v, [0.001, 0.999]) for v in values.values()])
    grid = np.linspace(ends[:, 0].min(), ends[:, 1].max(), _GRID)
    heights = {}
    for name, value in values.items():
        colour, style = CHAINS[order.index(name) % len(CHAINS)]
        heights[name] = density_on(grid, value)
        axes.plot(grid, heights[name], color=colour, ls=style, lw=width)
    axes.set_yticks([])
    axes.set_ylim(bottom=0)
    return grid, heights


def name_curves(axes: Axes, labels: Sequence[str], width: float) -> None:
    """Add the curves of all fits, in their order, to what the legend names."""
    for number, label in enumerate(labels):
        colour, style = CHAINS[number % len(CHAINS)]
        axes.plot([], [], color=colour, ls=style, lw=width, label=visible(label))
