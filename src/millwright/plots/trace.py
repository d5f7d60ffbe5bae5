"""Traces of chains, and their densities."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.draws.expressions import chosen_numbers
from millwright.draws.region import density
from millwright.errors import ArgumentError
from millwright.plots.choose import check_reference, chosen
from millwright.plots.panels import Size
from millwright.plots.per_chain import chain_legend, per_chain
from millwright.plots.style import CHAINS, INK, bare, finish, mark, new_figure, styled
from millwright.posterior.posterior import Posterior

__all__ = ["densities", "path_and_margin", "trace"]

_MOST_POINTS = 4000


def trace(
    posterior: Posterior,
    names: str | Sequence[str] | None = None,
    *,
    warmup: bool = False,
    page: int | None = None,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw each chain's path, with its density standing sideways in the margin.

    Parameters
    ----------
    posterior
        The fit to show.
    names
        Quantities or expressions to show; at most 8 single numbers a page.
    warmup
        Whether to show the warm-up too, with the log density in a panel of its own. Positions of
        the warm-up are kept by the no-U-turn sampler and the random walk, up to 200 unknown
        numbers.
    page
        Which page, from 1, where there are more.
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
    warmup = bool(warmup)
    shown = chosen(posterior, names, 8 - warmup, page)
    rows = len(shown.draws) + warmup
    before = _before(posterior, list(shown.draws)) if warmup else {}
    with styled():
        figure = new_figure(size, (12.8, min(8.0, 2.0 + 1.5 * rows)))
        panels = figure.subplots(rows, 2, squeeze=False, width_ratios=[7, 1])
        if warmup:
            _with_warmup(panels[0, 0], posterior)
            panels[0, 1].set_visible(False)
        below = panels[int(warmup) :]
        for (wide, margin), (name, value) in zip(below, shown.draws.items(), strict=True):
            path_and_margin((wide, margin), value, before.get(name))
            wide.set_title(shown.title(name))
            wide.tick_params(labelbottom=wide is panels[-1, 0])
        panels[-1][0].set_xlabel(
            "draw, the warm-up left of the line" if before else "draw after warm-up"
        )
        chain_legend(figure, posterior.draws.shape[0])
        return finish(
            figure,
            f"Traces of the chains{shown.page}",
            "Good: all chains wander over the same range without drift, and the densities in "
            "the margin lie on top of each other. Bad: a chain that stays apart, drifts or "
            "stands still." + _WARM * warmup + _NOT_KEPT * (warmup and not before),
            text,
            about=posterior,
        )


_WARM = (
    " The warm-up (left of the line) is no part of the results. It should reach the level of the "
    "kept draws well before its end."
)
_NOT_KEPT = " Only its log density is kept here."


def _before(posterior: Posterior, names: Sequence[str]) -> dict[str, np.ndarray]:
    """Return the warm-up's draws of quantities, as far as they are kept."""
    record = posterior.fit.warmup_record
    found = None if record is None else record.warmup_values(posterior.draws)
    return {} if found is None else chosen_numbers(found, names)


def path_and_margin(
    panels: Sequence[Axes], value: np.ndarray, before: np.ndarray | None = None
) -> None:
    """Draw the path of each chain, after its warm-up if that is given, and its density beside."""
    wide, margin = panels
    margin.sharey(wide)
    _paths(wide, value, before)
    _sideways(margin, value)


def _paths(axes: Axes, value: np.ndarray, before: np.ndarray | None) -> None:
    first = 1
    whole = value
    if before is not None:
        whole, first = np.concatenate([before, value], axis=1), 1 - before.shape[1]
        axes.axvline(0.5, color=INK, lw=1.2)
        low, high = value.min(), value.max()
        axes.set_ylim(low - 0.6 * (high - low), high + 0.6 * (high - low))
    step = max(1, whole.shape[1] // _MOST_POINTS)
    draws = np.arange(first, first + whole.shape[1])[::step]
    for chain, line in enumerate(whole[:, ::step]):
        colour, _ = CHAINS[chain % len(CHAINS)]
        axes.plot(draws, line, color=colour, lw=0.6)
    axes.set_xlim(first, max(2, value.shape[1]))


def _sideways(axes: Axes, value: np.ndarray) -> None:
    for chain, line in enumerate(value):
        colour, style = CHAINS[chain % len(CHAINS)]
        grid, height = density(line)
        axes.plot(height, grid, color=colour, ls=style, lw=1.3)
    axes.set_xlim(left=0)
    axes.set_xticks([])
    axes.tick_params(left=False, labelleft=False)
    axes.spines["bottom"].set_visible(False)


def _with_warmup(axes: Axes, posterior: Posterior) -> None:
    """Draw log densities before and after the end of the warm-up."""
    before = posterior.sampling.statistics(warmup=True)["log_density"].values
    after = posterior.sampling.statistics()["log_density"].values
    whole = np.concatenate([before, after], axis=1)
    at = np.concatenate([np.arange(-before.shape[1], 0), np.arange(after.shape[1])])
    for chain, line in enumerate(whole):
        colour, _ = CHAINS[chain % len(CHAINS)]
        axes.plot(at, line, color=colour, lw=0.6)
    # The first points can be so low that nothing else would be seen.
    low, high = np.quantile(after, [0.0, 1.0])
    axes.set_ylim(low - 2.0 * (high - low), high + 0.2 * (high - low))
    axes.axvline(0, color=INK, lw=1.2)
    axes.set_xlim(at[0], at[-1])
    axes.set_title("log density, warm-up left of the line")


def densities(
    posterior: Posterior,
    names: str | Sequence[str] | None = None,
    *,
    reference: Mapping[str, float] | None = None,
    page: int | None = None,
    axes: Axes | None = None,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw the density of each chain, one panel a quantity.

    Parameters
    ----------
    posterior
        The fit to show.
    names
        Quantities or expressions to show; at most 12 single numbers a page.
    reference
        Values to mark, by the name of a panel: a known truth, or another method's estimate.
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
    marked = check_reference(reference, shown.draws)

    def draw(panel: Axes, name: str, value: np.ndarray) -> None:
        if not np.isfinite(value).all():
            raise ArgumentError(f"`{name}` has draws that are not finite.")
        for chain, line in enumerate(value):
            colour, style = CHAINS[chain % len(CHAINS)]
            panel.plot(*density(line), color=colour, ls=style, lw=1.5)
        panel.set_ylim(bottom=0)
        bare(panel)
        mark(panel, marked.get(name))

    return per_chain(
        shown,
        draw,
        "Posterior density of each chain",
        "Good: the curves of all chains lie on top of each other. Each panel has its own scale."
        + " A dotted line marks a reference value." * bool(marked),
        axes=axes,
        size=size,
        text=text,
    )
