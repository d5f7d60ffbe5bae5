"""Rank plots: whether each chain visits low and high values as often as the others.

Vehtari, Gelman, Simpson, Carpenter and Buerkner (2021), section 3.3.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from scipy.stats import binom, rankdata

from millwright.diagnostics.arrays import split_chains
from millwright.plots.choose import chosen
from millwright.plots.panels import Size
from millwright.plots.per_chain import per_chain
from millwright.plots.style import CHAINS, STONE
from millwright.posterior.posterior import Posterior

__all__ = ["ranks"]

_BINS = 20


def ranks(
    posterior: Posterior,
    names: str | Sequence[str] | None = None,
    *,
    page: int | None = None,
    axes: Axes | None = None,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw how often each chain has each range of ranks among all chains' draws.

    Parameters
    ----------
    names
        Quantities or expressions to show; at most 12 single numbers a page.
    page
        Which page, from 1, where there are more.
    axes
        Axes to draw a single quantity into, without title and caption.
    """
    shown = chosen(posterior, names, 12, page)
    alone = posterior.draws.shape[0] == 1

    def draw(panel: Axes, name: str, value: np.ndarray) -> None:
        # One chain is compared with itself.
        _ranks(panel, split_chains(value[None])[0] if alone else value)

    return per_chain(
        shown,
        draw,
        "Ranks of each chain's draws among all",
        "Good: all chains stay near the grey band, which holds 95 % of the counts of independent "
        "draws (dependent ones stray a little more). Bad: a chain that leans (shifted), or bends "
        "up or down in the middle (other spread).",
        axes=axes,
        size=size,
        text=text,
        lines=("first half", "second half") if alone else (),
    )


def _ranks(axes: Axes, value: np.ndarray) -> None:
    chains, draws = value.shape
    found = rankdata(value).reshape(value.shape)
    bins = max(2, min(_BINS, draws // 5))
    edges = np.linspace(0, chains * draws, bins + 1)
    low, high = binom.ppf([0.025, 0.975], draws, 1 / bins)
    axes.axhspan(low, high, color=STONE, alpha=0.25, lw=0)
    for chain, line in enumerate(found):
        colour, style = CHAINS[chain % len(CHAINS)]
        counts = np.histogram(line - 0.5, edges)[0]
        axes.stairs(counts, edges, color=colour, ls=style, lw=1.4, baseline=None)
    axes.set_xlim(0, chains * draws)
    axes.set_ylim(0, max(axes.get_ylim()[1], 1.6 * high))
    axes.set_xticks([0, chains * draws], ["lowest", "highest"])
    axes.set_ylabel("draws")
