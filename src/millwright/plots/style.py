"""The look of all figures: colours, line styles, titles and captions."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import matplotlib as mpl
import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.layout_engine import ConstrainedLayoutEngine
from matplotlib.ticker import MaxNLocator

__all__ = [
    "CHAINS",
    "INK",
    "RIVER",
    "STONE",
    "WHEAT",
    "density",
    "finish",
    "light_grid",
    "new_figure",
    "panel_grid",
    "styled",
]

INK = "#22303C"
STONE = "#8A8D91"
WHEAT = "#C98A1B"
RIVER = "#2F7F86"
BRICK = "#A8452F"
MOSS = "#5F7F33"
PLUM = "#74476F"

# Chains differ in line style too, for grey print and colour-vision deficiencies.
CHAINS = [
    (RIVER, "-"),
    (BRICK, "--"),
    (WHEAT, "-."),
    (PLUM, ":"),
    (MOSS, (0, (5, 1))),
    (INK, (0, (3, 1, 1, 1))),
    (STONE, "-"),
    (RIVER, ":"),
]

_STYLE: dict[str, Any] = {
    "font.family": "DejaVu Sans",
    "font.size": 10.5,
    "axes.edgecolor": STONE,
    "axes.labelcolor": INK,
    "axes.titlecolor": INK,
    "axes.titlelocation": "left",
    "axes.titlesize": 11,
    "axes.spines.top": False,
    "axes.spines.right": False,
    "axes.formatter.useoffset": False,
    "xtick.color": INK,
    "ytick.color": INK,
    "text.color": INK,
    "legend.frameon": False,
    "figure.facecolor": "white",
    "axes.facecolor": "white",
    "savefig.facecolor": "white",
    "grid.color": "#E3E4E6",
}


@contextmanager
def styled() -> Iterator[None]:
    """Apply the style inside a plot function, over Matplotlib's own defaults."""
    settings: Any = {str(k): v for k, v in mpl.rcParamsDefault.items()}
    with mpl.rc_context(), mpl.rc_context(settings | _STYLE):
        yield


def new_figure(width: float, height: float) -> Figure:
    """Return an empty figure of a size in inches."""
    layout = ConstrainedLayoutEngine(w_pad=0.08, h_pad=0.08)
    return Figure(figsize=(width, height), layout=layout, dpi=100)


def panel_grid(count: int, size: tuple[float, float] | None) -> tuple[Figure, list[Axes]]:
    """Return a figure with `count` panels, each with few ticks, since long numbers collide."""
    columns = 2 if count in (2, 4) else min(3, count)
    rows = -(-count // columns)
    figure = new_figure(*(size or (12.8, min(8.0, 1.8 + 2.4 * rows))))
    panels = list(figure.subplots(rows, columns, squeeze=False).ravel())
    for axes in panels[:count]:
        axes.xaxis.set_major_locator(MaxNLocator(5))
    for axes in panels[count:]:
        axes.set_visible(False)
    return figure, panels[:count]


def finish(figure: Figure, title: str, caption: str, show_text: bool) -> Figure:
    """Add the title, which says what is shown, and the caption, which says how to read it."""
    if show_text:
        figure.suptitle(title, x=0.01, ha="left", fontsize=13, fontweight="bold", color=INK)
        wide = int(figure.get_figwidth() * 13.5)
        figure.supxlabel(textwrap.fill(caption, wide), x=0.01, ha="left", fontsize=9.5, color=INK)
    return figure


def density(values: np.ndarray, points: int = 200) -> tuple[np.ndarray, np.ndarray]:
    """Return a kernel estimate of a density over the range of its draws."""
    from scipy.stats import gaussian_kde

    low, high = float(values.min()), float(values.max())
    if high - low <= 1e-12 * max(abs(low), abs(high), 1e-300):
        return np.array([low]), np.array([1.0])
    grid = np.linspace(low, high, points)
    return grid, gaussian_kde(values)(grid)


def light_grid(axes: Axes, axis: str) -> None:
    """Draw a light grid along one axis, behind the data."""
    axes.grid(True, axis=axis, zorder=0)  # type: ignore[arg-type]
    axes.set_axisbelow(True)
