"""Trials by estimate and standard error, with what their publication may have left out."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from scipy.special import ndtri

from millwright.draws.intervals import kind_words
from millwright.draws.numbers import chance_text
from millwright.errors import ArgumentError
from millwright.plots.panels import Size
from millwright.plots.style import (
    BLUE,
    GREY,
    INK,
    PURPLE,
    YELLOW,
    finish,
    light_grid,
    new_figure,
    styled,
    tint,
)
from millwright.studies.grid_density import GridDensity
from millwright.studies.meta_bias_findings import PublicationBias

__all__ = ["funnel"]

_SIGNIFICANT = float(ndtri(0.975))


def funnel(found: PublicationBias, *, size: Size | None = None, text: bool = True) -> Figure:
    """Draw the trials of a meta-analysis as a funnel, and the effect with and without bias.

    Parameters
    ----------
    found
        Result of `findings.publication_bias(...)`.
    size
        Width and height in inches; by default 12.8 and 6.4.
    text
        Whether to write title and caption.

    Returns
    -------
    The figure.

    Raises
    ------
    ArgumentError
        For another kind of result.
    """
    if not isinstance(found, PublicationBias):
        raise ArgumentError(
            f"Give the result of findings.publication_bias(), not {type(found).__name__}."
        )
    trials = found.trials
    deepest = 1.08 * float(trials.errors.max())
    errors = np.linspace(0, deepest, 50)
    with styled():
        figure = new_figure(size, (12.8, 6.4))
        weighed = bool(len(found.steps))
        grid = figure.add_gridspec(2 if weighed else 1, 2, width_ratios=(3, 2))
        axes, side = figure.add_subplot(grid[:, 0]), figure.add_subplot(grid[0, 1])
        if weighed:
            _weights(figure.add_subplot(grid[1, 1]), found)
        reach = _SIGNIFICANT * errors
        axes.fill_betweenx(
            errors, -reach, reach, color=tint(YELLOW, 0.35), lw=0, label="p above 0.05, two-sided"
        )
        plain = found.plain.median
        for sign in (-1, 1):
            axes.plot(plain + sign * reach, errors, color=GREY, lw=1, ls=":")
        axes.plot(trials.estimates, trials.errors, "o", color=INK, ms=6, mew=0, label="trials")
        for density, colour, style, label in _both(found):
            axes.plot(
                [density.median] * 2, [0, deepest], color=colour, ls=style, lw=2, label=label
            )
            _curve(side, density, colour, style, label)
        axes.set_ylim(deepest, 0)
        axes.set_xlabel("estimate")
        axes.set_ylabel("standard error")
        light_grid(axes, "x")
        axes.legend(fontsize=9.5)
        side.axvline(0, color=GREY, ls="--", lw=1.2)
        side.set_yticks([])
        side.set_ylim(bottom=0)
        side.set_xlabel("effect, where there is one")
        chance = chance_text(found.inclusions["bias"].after, 10_000)
        side.set_title(f"probability of bias: {chance}", loc="left", fontsize=11)
        return finish(
            figure,
            "Trials by their standard error, and the effect if some were not published",
            "Left: without bias trials spread evenly around the dashed line, 95 % of them in the "
            "dotted funnel if they do not differ; bias leaves gaps in the yellow area. Right: the "
            "effect with and without regard to bias"
            + (
                f"; below, median and {kind_words(found.kind, found.level)} of the chance that a "
                "trial was published, averaged over all models."
                if weighed
                else "."
            ),
            text,
        )


def _weights(axes: Axes, found: PublicationBias) -> None:
    """Draw the chance that a trial was published over its p-value, in equal steps."""
    table = found.weight_function()
    low, high = (table[c].to_numpy() for c in table.columns[-2:])
    edges = np.arange(len(table) + 1)
    axes.stairs(high, edges, baseline=low, fill=True, color=tint(BLUE, 0.3), lw=0)
    axes.stairs(table["median"], edges, baseline=None, color=BLUE, lw=2)
    ends = [*table["one-sided p, from"], 1.0]
    axes.set_xticks(edges, [f"{end:.4g}" for end in ends])
    axes.set_xlim(0, len(table))
    axes.set_ylim(0, 1.08)
    axes.set_xlabel(f"one-sided p-value of the trial, {found.direction} direction")
    axes.set_ylabel("chance to be\npublished, relative")
    light_grid(axes, "y")


def _both(found: PublicationBias) -> list[tuple[GridDensity, str, str, str]]:
    return [
        (found.plain, PURPLE, "--", "effect without regard to bias"),
        (found.corrected, BLUE, "-", "effect, all models averaged"),
    ]


def _curve(axes: Axes, density: GridDensity, colour: str, style: str, label: str) -> None:
    heights = density.densities
    shown = heights > 0.004 * heights.max()
    x, y = density.grid[shown], heights[shown]
    axes.plot(x, y, color=colour, ls=style, lw=2, label=label)
