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
from millwright.plots.style import CHAINS, GREY, tint
from millwright.posterior.posterior import Posterior

__all__ = ["rank_counts"]

_BINS = 20
_STRIPS = 8
"""Of more chains those that deviate most."""


def rank_counts(
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
    posterior
        The fit to show.
    names
        Quantities or expressions to show; at most 12 single numbers a page.
    page
        Which page, from 1, where there are more.
    axes
        Axes to draw a single quantity into, without title and caption.
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
    shown = chosen(posterior, names, 12, page)
    alone = posterior.draws.shape[0] == 1

    def draw(panel: Axes, name: str, value: np.ndarray) -> None:
        # One chain is compared with itself.
        _ranks(panel, split_chains(value[None])[0] if alone else value)

    return per_chain(
        shown,
        draw,
        "Ranks of each chain's draws among all",
        "A strip a chain: how many more (up) or fewer (down) of its draws lie in each range of "
        "ranks than in an even spread. Good: bars stay in the grey band, which contains 95 % of "
        "those of independent draws (dependent ones stray a little more). Bad: a strip that leans "
        "(shifted), or bends in the middle (other spread)."
        + f" Shown are the {_STRIPS} chains that deviate most."
        * (posterior.draws.shape[0] > _STRIPS),
        axes=axes,
        size=size,
        text=text,
        lines=("first half", "second half") if alone else (),
    )


def _ranks(axes: Axes, value: np.ndarray) -> None:
    """Draw a strip for each chain: its counts of ranks, from what an even spread gives."""
    chains, draws = value.shape
    found = rankdata(value).reshape(value.shape)
    bins = max(2, min(_BINS, draws // 5))
    edges = np.linspace(0, chains * draws, bins + 1)
    counts = np.stack([np.histogram(line - 0.5, edges)[0] for line in found]) - draws / bins
    low, high = binom.ppf([0.025, 0.975], draws, 1 / bins) - draws / bins
    strips = np.sort(np.argsort(-np.abs(counts).max(axis=1), kind="stable")[:_STRIPS])
    half = max(np.abs(counts[strips]).max(), -low, high)
    for row, chain in enumerate(strips):
        colour, _ = CHAINS[chain % len(CHAINS)]
        middle = -2.2 * half * row
        axes.axhspan(middle + low, middle + high, color=tint(GREY, 0.35), lw=0)
        axes.axhline(middle, color=GREY, lw=0.8)
        axes.stairs(
            middle + counts[chain], edges, baseline=middle, fill=True, color=colour, zorder=3
        )
    axes.set_xlim(0, chains * draws)
    axes.set_ylim(-2.2 * half * (len(strips) - 0.5), 1.1 * half)
    axes.set_xticks([0, chains * draws], ["lowest", "highest"])
    axes.set_yticks([-2.2 * half * row for row in range(len(strips))], [*map(str, strips + 1)])
    axes.tick_params(axis="y", length=0)
