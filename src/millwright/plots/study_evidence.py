"""Bayes factors of a study, over the width of a prior or as rows came in."""

from __future__ import annotations

import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from millwright.plots.factor_ticks import factor_ticks
from millwright.plots.panels import Size
from millwright.plots.style import BLUE, GREY, INK, PURPLE, YELLOW, finish, new_figure, styled
from millwright.studies.findings import Findings

__all__ = ["over_rows", "over_widths"]

_LINES = ((BLUE, "-"), (PURPLE, "--"), (YELLOW, "-."))
_HEADING = "log BF, "


def over_widths(found: Findings, table: pd.DataFrame, size: Size | None, text: bool) -> Figure:
    """Draw Bayes factors over the width of the prior; columns of logs start with `log BF, `."""
    figure, axes = _lines(table, size)
    axes.set_xscale("log")
    axes.set_xticks(list(table.index), [f"{width:.3g}" for width in table.index], minor=False)
    axes.minorticks_off()
    return _finished(
        figure,
        axes,
        found,
        "width of the prior",
        "How the evidence rests on the prior's width",
        "Above 1 the data favour what the line is named after, below 1 that there is none; "
        "dotted: 3 and 10. Where lines cross 1 within sensible widths, the data say little.",
        text,
    )


def over_rows(found: Findings, table: pd.DataFrame, size: Size | None, text: bool) -> Figure:
    """Draw Bayes factors as rows came in."""
    figure, axes = _lines(table, size)
    axes.xaxis.set_major_locator(MaxNLocator(integer=True))
    return _finished(
        figure,
        axes,
        found,
        "number of rows",
        "The evidence as rows came in",
        "Above 1 the data so far favour what the line is named after, below 1 that there is none; "
        "dotted: 3 and 10. Whoever stops as soon as a line is passed will pass it more often than "
        "the final number says.",
        text,
    )


def _lines(table: pd.DataFrame, size: Size | None) -> tuple[Figure, Axes]:
    """Draw log Bayes factors over the index of a table, with the thresholds of words."""
    columns = [name for name in table.columns if str(name).startswith(_HEADING)]
    with styled():
        figure = new_figure(size, (12.8, 6.0))
        axes = figure.subplots()
        for (colour, style), name in zip(_LINES, columns, strict=False):
            label = str(name).removeprefix(_HEADING)
            axes.plot(table.index, table[name], color=colour, ls=style, lw=2, label=label)
        axes.axhline(0, color=INK, lw=1)
        values = np.abs(table[columns].to_numpy(float))
        reach = max(np.log(30.0), 1.1 * float(values[np.isfinite(values)].max(initial=0.0)))
        for threshold in (3, 10):
            for sign in (-1, 1):
                axes.axhline(sign * np.log(threshold), color=GREY, lw=0.8, ls=":")
        axes.set_ylim(-reach, reach)
        axes.set_yticks(*factor_ticks(reach))
        axes.set_ylabel("Bayes factor over none")
    return figure, axes


def _finished(
    figure: Figure,
    axes: Axes,
    found: Findings,
    along: str,
    title: str,
    caption: str,
    text: bool,
) -> Figure:
    with styled():
        axes.set_xlabel(along)
        figure.legend(loc="outside right upper")
        return finish(figure, f"{found.question} {title}", caption, text, about=found)
