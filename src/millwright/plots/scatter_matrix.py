"""Quantities against each other, with the places of divergences."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.gridspec import SubplotSpec

from millwright.draws.region import density
from millwright.errors import ArgumentError
from millwright.plots.choose import chosen
from millwright.plots.panels import Size
from millwright.plots.style import BLUE, INK, RED, finish, new_figure, styled, wrapped
from millwright.posterior.posterior import Posterior

__all__ = ["scatter_matrix"]

_MOST = 6
_POINTS = 1500
_SMALL = 8


def scatter_matrix(
    posterior: Posterior,
    names: str | Sequence[str] | None = None,
    *,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw each pair of quantities below the diagonal, and their correlation above it.

    Parameters
    ----------
    posterior
        The fit to show.
    names
        Two to six quantities or expressions.
    size
        Width and height in inches.
    text
        Whether to write title and caption.

    Returns
    -------
    The figure.

    Raises
    ------
    ArgumentError
        For what is not a posterior, a page that is not there, or more quantities than fit into one
        figure.
    UnknownLabelError
        For a quantity that is not there.
    """
    shown = chosen(posterior, names, _MOST).draws
    if len(shown) < 2:
        raise ArgumentError("Choose two or more quantities.")
    names = list(shown)
    values = [value.reshape(-1) for value in shown.values()]
    diverged = np.asarray(posterior.fit.statistics["diverged"], dtype=bool).reshape(-1)
    count = len(values)
    with styled():
        figure = new_figure(size, (12.8, 8.0))
        # Many panels in a plain grid: placing them by hand takes half the time.
        figure.set_layout_engine("none")
        grid = figure.add_gridspec(
            count, count, left=0.09, right=0.99, top=0.93, bottom=0.18, wspace=0.12, hspace=0.14
        )
        for row in range(count):
            for column in range(row + 1):
                axes = figure.add_subplot(grid[row, column])
                _panel(axes, values, row, column, diverged)
                if row == count - 1:
                    axes.set_xlabel(wrapped(names[column], 16), fontsize=_SMALL)
                if column == 0:
                    axes.set_ylabel(wrapped(names[row], 16), fontsize=_SMALL)
                    axes.yaxis.set_label_coords(-0.32, 0.5)
            for column in range(row + 1, count):
                _coefficient(figure, grid[row, column], values[column], values[row])
        crossed = (
            f" Crosses: the {diverged.sum()} draws at which the trajectory diverged; where they "
            "gather, the sampler could not follow the posterior."
            if diverged.any()
            else " No trajectory diverged."
        )
        return finish(
            figure,
            "Scatter matrix",
            "Below the diagonal: draws of each pair. On it: densities. Above it: correlation "
            "coefficient, in larger type where it is stronger; near 1 or -1 the data cannot tell "
            "the two apart." + crossed,
            text,
            about=posterior,
        )


def _panel(
    axes: Axes, values: list[np.ndarray], row: int, column: int, diverged: np.ndarray
) -> None:
    axes.tick_params(labelsize=8)
    axes.locator_params(nbins=4)
    last = row == len(values) - 1
    if row == column:
        axes.fill_between(*density(values[row]), color=BLUE, alpha=0.45, lw=0)
        axes.set_yticks([])
        axes.set_ylim(bottom=0)
    else:
        step = max(1, len(values[0]) // _POINTS)
        axes.plot(values[column][::step], values[row][::step], ".", color=BLUE, ms=2, alpha=0.35)
        axes.plot(values[column][diverged], values[row][diverged], "x", color=RED, ms=5)
        if column:
            axes.set_yticklabels([])
    if not last:
        axes.set_xticklabels([])


def _coefficient(figure: Figure, cell: SubplotSpec, x: np.ndarray, y: np.ndarray) -> None:
    with np.errstate(divide="ignore", invalid="ignore"):
        r = float(np.corrcoef(x, y)[0, 1])
    strength = abs(r) if np.isfinite(r) else 0.0
    box = cell.get_position(figure)
    figure.text(
        (box.x0 + box.x1) / 2,
        (box.y0 + box.y1) / 2,
        f"{r + 0.0:.2f}".replace("-0.00", "0.00"),
        ha="center",
        va="center",
        fontsize=10 + 8 * strength,
        fontweight="bold" if strength > 0.7 else "normal",
        color=INK,
    )
