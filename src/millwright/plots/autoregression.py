"""Responses of several series to shocks, and their forecasts."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from millwright.draws.intervals import interval, kind_words
from millwright.errors import ArgumentError
from millwright.plots.panels import Size
from millwright.plots.style import (
    BLUE,
    CHAINS,
    GREY,
    INK,
    YELLOW,
    finish,
    light_grid,
    new_figure,
    styled,
    tint,
)
from millwright.studies.autoregression_ahead import Forecast
from millwright.studies.autoregression_responses import Responses
from millwright.wording import visible

__all__ = ["forecast", "responses"]

_WIDE = 12.8
_MOST_SERIES = 5
_MOST_TIMES = 4
_SHOWN = 48


def responses(found: Responses, *, size: Size | None = None, text: bool = True) -> Figure:
    """Draw how each series answers to a shock of each, with a band; several times in colours.

    Parameters
    ----------
    found
        Result of `findings.responses(...)`.
    size
        Width and height in inches.
    text
        Whether to write title and caption.

    Returns
    -------
    The figure: a column a shock, a row an answering series.

    Raises
    ------
    ArgumentError
        For another result, more than 5 series or 4 times.
    """
    if not isinstance(found, Responses):
        raise ArgumentError(f"Give the result of responses(), not {type(found).__name__}.")
    n, shocks = len(found.series), len(found.shocks)
    if max(n, shocks) > _MOST_SERIES or len(found.draws) > _MOST_TIMES:
        raise ArgumentError(
            f"At most {_MOST_SERIES} series, {_MOST_SERIES} shocks and {_MOST_TIMES} times fit in "
            f"one figure, not {n}, {shocks} and {len(found.draws)}: take the table, or ask for "
            "fewer."
        )
    with styled():
        figure = new_figure(size, (_WIDE, min(8.4, 1.8 + 1.9 * n)))
        panels = figure.subplots(n, shocks, squeeze=False, sharex=True, sharey="row")
        for j, series in enumerate(found.series):
            for i, shock in enumerate(found.shocks):
                axes = panels[j, i]
                _answer(axes, found, j, i)
                if j == 0:
                    axes.set_title(visible(f"shock of {shock}"))
                if i == 0:
                    axes.set_ylabel(visible(series))
                if j == n - 1:
                    axes.set_xlabel("steps after the shock")
        if len(found.draws) > 1:
            handles, labels = panels[0, 0].get_legend_handles_labels()
            figure.legend(handles, labels, loc="outside right upper")
        words = kind_words(found.kind, found.level)
        return finish(
            figure,
            "How the series answer to shocks",
            f"{_lines(found, words)} Rows: the series that answers; {found.words}",
            text,
            about=found.about,
        )


def _lines(found: Responses, words: str) -> str:
    if len(found.draws) == 1:
        return f"Line: median; band: {words}."
    return f"Thick lines: medians; thin: ends of the {words}."


def _answer(axes: Axes, found: Responses, j: int, i: int) -> None:
    axes.axhline(0, color=GREY, ls="--", lw=1.1)
    for (time, draws), (colour, style) in zip(found.draws.items(), CHAINS, strict=False):
        steps = np.arange(draws.shape[1])
        low, high = interval(draws[:, :, j, i], found.level, found.kind)
        if len(found.draws) == 1:
            axes.fill_between(steps, low, high, color=tint(colour, 0.3), lw=0)
        else:
            # Bands over each other would hide which is which.
            for end in (low, high):
                axes.plot(steps, end, color=colour, ls=style, lw=0.7)
        middle = np.median(draws[:, :, j, i], axis=0)
        axes.plot(steps, middle, color=colour, ls=style, lw=1.8, label=f"at {time}")
    axes.xaxis.set_major_locator(MaxNLocator(5, integer=True))
    light_grid(axes, "y")


def forecast(found: Forecast, *, size: Size | None = None, text: bool = True) -> Figure:
    """Draw the last readings of each series, and the bands of a forecast after them.

    Parameters
    ----------
    found
        Result of `findings.forecast(...)`.
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
        For another result.
    """
    if not isinstance(found, Forecast):
        raise ArgumentError(f"Give the result of forecast(), not {type(found).__name__}.")
    made = found.about.study.parts.data
    n = len(found.series)
    shown = min(_SHOWN, len(made.values))
    before, after = np.arange(-shown + 1, 1), np.arange(1, len(found.labels) + 1)
    with styled():
        figure = new_figure(size, (_WIDE, min(8.4, 2.0 + 1.7 * n)))
        panels = figure.subplots(n, 1, squeeze=False, sharex=True)[:, 0]
        for j, (axes, series) in enumerate(zip(panels, found.series, strict=True)):
            axes.axvline(0.5, color=GREY, ls="--", lw=1.1)
            for level, strength in ((found.level, 0.3), (0.5, 0.6)):
                low, high = interval(found.draws[:, :, j], level, found.kind)
                axes.fill_between(after, low, high, color=tint(YELLOW, strength), lw=0)
            axes.plot(after, np.median(found.draws[:, :, j], axis=0), color=INK, ls="--", lw=1.4)
            axes.plot(before, made.values[-shown:, j], "o-", color=BLUE, ms=3.4, lw=1.2)
            stated = ~np.isnan(found.stated[:, j])
            axes.plot(after[stated], found.stated[stated, j], "s", color=INK, ms=5)
            axes.set_ylabel(visible(series))
            light_grid(axes, "y")
        _name_times(panels[-1], [*made.times.labels[-shown:], *found.labels], -shown + 1)
        stated_words = " Squares: stated." if (~np.isnan(found.stated)).any() else ""
        return finish(
            figure,
            f"Forecast of {len(found.labels)} steps",
            f"Blue: readings. Dashed: median of the forecast, with its 50 % and "
            f"{kind_words(found.kind, found.level)}.{stated_words} {' '.join(found.remarks)}",
            text,
            about=found.about,
        )


def _name_times(axes: Axes, labels: list[str], first: int) -> None:
    every = max(1, -(-len(labels) // 9))
    places = range(0, len(labels), every)
    axes.set_xticks([first + at for at in places], [labels[at] for at in places])
