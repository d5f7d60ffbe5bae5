"""Traces of chains, and their densities."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.lines import Line2D

from millwright.plots.choose import chosen
from millwright.plots.style import CHAINS, density, finish, new_figure, panel_grid, styled
from millwright.posterior import Posterior

__all__ = ["densities", "trace"]


def trace(
    posterior: Posterior,
    names: str | Sequence[str] | None = None,
    *,
    size: tuple[float, float] | None = None,
    text: bool = True,
) -> Figure:
    """Draw each chain's path, with its density standing sideways in the margin.

    Parameters
    ----------
    names
        Quantities to show; at most 8 single numbers.
    size
        Width and height in inches.
    text
        Whether to write title and caption.
    """
    single = chosen(posterior, names, most=8)
    with styled():
        figure = new_figure(*(size or (12.8, min(8.0, 2.0 + 1.5 * len(single)))))
        panels = figure.subplots(len(single), 2, squeeze=False, sharey="row", width_ratios=[7, 1])
        for (wide, margin), (name, value) in zip(panels, single.items(), strict=True):
            _paths(wide, name, value)
            _sideways(margin, value)
            wide.tick_params(labelbottom=wide is panels[-1, 0])
        panels[-1][0].set_xlabel("draw after warm-up")
        _legend(figure, value.shape[0])
        return finish(
            figure,
            "Traces of the chains",
            "Good: all chains wander over the same range without drift, and the densities in "
            "the margin lie on top of each other. Bad: a chain that stays apart, drifts or "
            "stands still.",
            text,
        )


def _paths(axes: Axes, name: str, value: np.ndarray) -> None:
    draws = np.arange(1, value.shape[1] + 1)
    for chain, line in enumerate(value):
        colour, _ = CHAINS[chain % len(CHAINS)]
        axes.plot(draws, line, color=colour, lw=0.6, alpha=0.8)
    axes.set_title(name)
    axes.set_xlim(1, value.shape[1])


def _sideways(axes: Axes, value: np.ndarray) -> None:
    for chain, line in enumerate(value):
        colour, style = CHAINS[chain % len(CHAINS)]
        grid, height = density(line)
        axes.plot(height, grid, color=colour, ls=style, lw=1.3)
    axes.set_xlim(left=0)
    axes.set_xticks([])
    axes.tick_params(left=False)
    axes.spines["bottom"].set_visible(False)


def _legend(figure: Figure, chains: int) -> None:
    lines = [
        Line2D([], [], color=CHAINS[chain % len(CHAINS)][0], ls=CHAINS[chain % len(CHAINS)][1])
        for chain in range(chains)
    ]
    labels = [f"chain {chain + 1}" for chain in range(chains)]
    figure.legend(lines, labels, loc="outside upper right", ncols=min(chains, 8), fontsize=9.5)


def densities(
    posterior: Posterior,
    names: str | Sequence[str] | None = None,
    *,
    size: tuple[float, float] | None = None,
    text: bool = True,
) -> Figure:
    """Draw the density of each chain, one panel a quantity.

    Parameters
    ----------
    names
        Quantities to show; at most 12 single numbers.
    """
    single = chosen(posterior, names, most=12)
    with styled():
        figure, panels = panel_grid(len(single), size)
        for axes, (name, value) in zip(panels, single.items(), strict=False):
            for chain, line in enumerate(value):
                colour, style = CHAINS[chain % len(CHAINS)]
                axes.plot(*density(line), color=colour, ls=style, lw=1.5)
            axes.set_title(name)
            axes.set_ylim(bottom=0)
            axes.set_yticks([])
            axes.spines["left"].set_visible(False)
        _legend(figure, value.shape[0])
        return finish(
            figure,
            "Posterior density of each chain",
            "Good: the curves of all chains lie on top of each other. Each panel has its own "
            "scale.",
            text,
        )
