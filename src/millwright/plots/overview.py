"""One page of a fit: verdict, traces, densities, predictive check."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence

from matplotlib.axes import Axes
from matplotlib.figure import Figure, SubFigure

from millwright.draws.intervals import interval
from millwright.draws.numbers import range_text
from millwright.plots.choose import Chosen, chosen
from millwright.plots.panels import Size
from millwright.plots.per_chain import chain_legend
from millwright.plots.replications import histogram
from millwright.plots.style import GREY, INK, finish, new_figure, styled
from millwright.plots.trace import path_and_margin
from millwright.posterior.posterior import Posterior

__all__ = ["overview"]

_MOST = 5


def overview(
    posterior: Posterior,
    names: str | Sequence[str] | None = None,
    *,
    size: Size = (12.8, 8.0),
    text: bool = True,
) -> Figure:
    """Draw one page of a fit: the verdict, the quantities that matter, the predictive check.

    Parameters
    ----------
    posterior
        The fit to show.
    names
        At most five quantities or expressions; by default the first ones, those with labels left
        out.
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
    if names is None and isinstance(posterior, Posterior):
        every = posterior.draws.names()
        single = [name for name in every if not posterior.draws.binding.axes[name]]
        names = (single or every)[:_MOST]
    shown = chosen(posterior, names, _MOST)
    with styled():
        figure = new_figure(size)
        ratios = [0.4 * len(shown.draws) + 0.6, 1.3]
        halves = figure.subfigures(2, 1, squeeze=False, height_ratios=ratios)[:, 0]
        _quantities(halves[0], shown)
        _below(halves[1], posterior)
        chain_legend(figure, posterior.draws.shape[0])
        title = posterior.draws.binding.specification.title or "a model without a title"
        return finish(
            figure,
            f"Overview: {title}",
            "Top: traces of the chains, with the density of each in the margin. "
            "Below: the verdict, and the data against 95 % of replicated data sets (band).",
            text,
            about=posterior,
        )


def _quantities(above: SubFigure, shown: Chosen) -> None:
    grid = above.subplots(len(shown.draws), 2, squeeze=False, width_ratios=[7, 1])
    for row, (name, value) in zip(grid, shown.draws.items(), strict=True):
        path_and_margin(row, value)
        low, high = interval(value.reshape(-1))
        ends = range_text(float(low), float(high), float(value.std(ddof=1)))
        row[0].set_title(f"{shown.title(name)}   (95 % central interval {ends})")
        row[0].set_xticks([])


def _below(below: SubFigure, posterior: Posterior) -> None:
    outcomes = bool(posterior.draws.binding.program.outcomes)
    panels = below.subplots(1, 2 if outcomes else 1, squeeze=False)[0]
    _verdict(panels[0], posterior)
    if outcomes:
        check = posterior.predictive_check()
        histogram(panels[1], check, check.outcome(None), None)


def _verdict(axes: Axes, posterior: Posterior) -> None:
    axes.set_axis_off()
    verdict = posterior.verdict
    lines = [f.problem for f in verdict.findings[:2]] or list(verdict.facts[:4])
    body = "\n".join(textwrap.fill(line, 78) for line in lines)
    axes.text(0, 1, textwrap.fill(verdict.headline, 60), va="top", fontsize=12, fontweight="bold")
    axes.text(0, 0.84, body, va="top", fontsize=9.5, color=INK if verdict.good else GREY)
