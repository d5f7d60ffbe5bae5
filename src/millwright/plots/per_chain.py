"""Figures with a panel for each quantity and a line for each chain."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.lines import Line2D

from millwright.plots.choose import Chosen
from millwright.plots.panels import Size, panels_for
from millwright.plots.style import CHAINS, finish, styled

__all__ = ["chain_legend", "per_chain"]


def per_chain(
    shown: Chosen,
    draw: Callable[[Axes, str, np.ndarray], None],
    title: str,
    caption: str,
    *,
    axes: Axes | None,
    size: Size | None,
    text: bool,
    lines: Sequence[str] = (),
) -> Figure:
    """Draw each quantity into a panel of its own, under one legend of the chains.

    Parameters
    ----------
    draw
        Takes a panel, the quantity's name, and its draws of shape (chains, draws).
    lines
        What the lines are, if they are not the chains.
    """
    with styled():
        figure, panels = panels_for(len(shown.draws), size, axes)
        for panel, (name, value) in zip(panels, shown.draws.items(), strict=True):
            draw(panel, name, value)
            panel.set_title(shown.title(name))
        if axes is None:
            chain_legend(figure, len(next(iter(shown.draws.values()))), lines)
        return finish(
            figure, f"{title}{shown.page}", caption, text and axes is None, shown.posterior
        )


def chain_legend(figure: Figure, chains: int, words: Sequence[str] = ()) -> None:
    """Add a legend of the chains, for as many as differ, or of what `words` name."""
    shown = len(words) or min(chains, len(CHAINS))
    lines = [Line2D([], [], color=colour, ls=style) for colour, style in CHAINS[:shown]]
    labels = list(words) or [f"chain {chain + 1}" for chain in range(shown)]
    if chains > shown and not words:
        labels[-1] += f" (colours repeat up to chain {chains})"
    figure.legend(lines, labels, loc="outside upper right", ncols=min(shown, 8), fontsize=9.5)
