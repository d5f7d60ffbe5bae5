"""The figures of one series: its parts, one panel each, and its forecast."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.draws.intervals import interval, kind_words
from millwright.plots.autoregression import forecast
from millwright.plots.panels import Size
from millwright.plots.study_autoregression import errors_figure
from millwright.plots.style import (
    BLUE,
    GREY,
    INK,
    YELLOW,
    finish,
    light_grid,
    new_figure,
    styled,
    tint,
    wrapped,
)
from millwright.studies.series_findings import SeriesFindings
from millwright.wording import visible

__all__ = ["figures"]

_WIDE = 12.8
_MOST = 5


def parts_figure(found: SeriesFindings, size: Size | None, text: bool) -> Figure:
    """Draw the readings with the sum of all parts, and each part below."""
    made = found.study.parts.data
    every = found.part_draws()
    shown = dict(list(every.items())[:_MOST])
    x = np.arange(made.count)
    with styled():
        figure = new_figure(*(size or (_WIDE, min(8.8, 2.4 + 1.45 * (1 + len(shown))))))
        panels = figure.subplots(1 + len(shown), 1, squeeze=False, sharex=True)[:, 0]
        total = sum(every.values())
        _band(panels[0], x, np.asarray(total), found, YELLOW)
        panels[0].plot(x, made.values[:, 0], "o", color=INK, ms=2.6)
        panels[0].set_ylabel(wrapped(visible(made.series[0]), 18))
        for axes, (name, draws) in zip(panels[1:], shown.items(), strict=True):
            _band(axes, x, draws, found, BLUE)
            axes.set_ylabel(wrapped(visible(name), 18))
            if name != "level":
                axes.axhline(0, color=GREY, ls="--", lw=1.0)
        places = np.linspace(0, len(x) - 1, 8).astype(int)
        panels[-1].set_xticks(places, [made.labels[at] for at in places])
        left = len(every) - len(shown)
        cut = f" {left} parts more are in parts()." * (left > 0)
        return finish(
            figure,
            found.question,
            f"Above: readings, and the sum of all parts. Below: each part, line: median, band: "
            f"{kind_words(found.kind, found.level)}. The level is for the other parts at their "
            f"means.{cut}",
            text,
            about=found,
        )


def _band(
    axes: Axes, x: np.ndarray, draws: np.ndarray, found: SeriesFindings, colour: str
) -> None:
    low, high = interval(draws, found.level, found.kind)
    axes.fill_between(x, low, high, color=tint(colour, 0.4), lw=0)
    axes.plot(x, np.median(draws, axis=0), color=colour, lw=1.5)
    light_grid(axes, "y")


def forecast_figure(found: SeriesFindings, size: Size | None, text: bool) -> Figure:
    """Draw the forecast of twelve steps."""
    return forecast(found.forecast(), size=size, text=text)


def figures(found: SeriesFindings) -> dict[str, Callable[[Size | None, bool], Figure]]:
    """Return what draws each figure of the study, the main one first."""
    known: dict[str, Callable[[SeriesFindings, Size | None, bool], Figure]] = {
        "parts": parts_figure
    }
    if not any(part.kind == "column" for part in found.study.parts.parts):
        known["forecast"] = forecast_figure
    if found.study.parts.errors_drift:
        known["errors"] = errors_figure
    return {name: partial(draw, found) for name, draw in known.items()}
