"""One page of a fit: verdict, traces, densities, predictive check."""

from __future__ import annotations

import textwrap
from collections.abc import Mapping, Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure, SubFigure
from matplotlib.ticker import MaxNLocator

from millwright.draws.intervals import interval
from millwright.draws.numbers import range_text
from millwright.draws.region import density
from millwright.plots.choose import chosen
from millwright.plots.panels import Size
from millwright.plots.replications import histogram
from millwright.plots.style import CHAINS, INK, RIVER, STONE, bare, finish, new_figure, styled
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
    names
        At most five quantities or expressions; by default the first ones, those with labels left
        out.
    """
    if names is None and isinstance(posterior, Posterior):
        every = posterior.draws.names()
        single = [name for name in every if not posterior.draws.binding.axes[name]]
        names = (single or every)[:_MOST]
    shown = chosen(posterior, names, _MOST).draws
    with styled():
        figure = new_figure(*size)
        ratios = [0.4 * len(shown) + 0.6, 1.3]
        halves = figure.subfigures(2, 1, squeeze=False, height_ratios=ratios)[:, 0]
        _quantities(halves[0], shown)
        _below(halves[1], posterior)
        title = posterior.draws.binding.specification.title or "a model without a title"
        return finish(
            figure,
            f"Overview: {title}",
            "Top: traces of the chains, and each posterior with its 95 % central interval (bar). "
            "Below: the verdict, and the data against 95 % of replicated data sets (band).",
            text,
            about=posterior,
        )


def _quantities(above: SubFigure, shown: Mapping[str, np.ndarray]) -> None:
    grid = above.subplots(len(shown), 2, squeeze=False, width_ratios=[2, 1])
    for (left, right), (name, value) in zip(grid, shown.items(), strict=True):
        step = max(1, value.shape[1] // 1000)
        for chain, line in enumerate(value[:, ::step]):
            left.plot(line, color=CHAINS[chain % len(CHAINS)][0], lw=0.5, alpha=0.8)
        left.set_title(name)
        left.set_xticks([])
        left.set_xlim(0, max(1, len(value[0, ::step]) - 1))
        flat = value.reshape(-1)
        curve, height = density(flat)
        right.fill_between(curve, height, color=RIVER, alpha=0.4, lw=0)
        low, high = interval(flat)
        right.plot([low, high], [0, 0], color=INK, lw=5, clip_on=False, solid_capstyle="butt")
        right.set_ylim(bottom=0)
        right.xaxis.set_major_locator(MaxNLocator(4))
        right.set_title(range_text(float(low), float(high), float(flat.std(ddof=1))))
        bare(right)


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
    axes.text(0, 0.84, body, va="top", fontsize=9.5, color=INK if verdict.good else STONE)
