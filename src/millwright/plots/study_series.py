"""The figures of one series: its parts, one panel each, and its forecast."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from matplotlib.figure import Figure

from millwright.draws.intervals import kind_words
from millwright.plots.autoregression import forecast
from millwright.plots.over_times import band_over_times, label_times
from millwright.plots.panels import Size
from millwright.plots.study_autoregression import errors_figure
from millwright.plots.style import (
    BLUE,
    GREY,
    INK,
    YELLOW,
    finish,
    new_figure,
    styled,
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
        figure = new_figure(size, (_WIDE, min(8.8, 2.4 + 1.45 * (1 + len(shown)))))
        panels = figure.subplots(1 + len(shown), 1, squeeze=False, sharex=True)[:, 0]
        total = sum(every.values())
        band_over_times(panels[0], np.asarray(total), found, YELLOW)
        panels[0].plot(x, made.values[:, 0], "o", color=INK, ms=2.6)
        panels[0].set_ylabel(wrapped(visible(made.series[0]), 18))
        for axes, (name, draws) in zip(panels[1:], shown.items(), strict=True):
            band_over_times(axes, draws, found, BLUE)
            axes.set_ylabel(wrapped(visible(name), 18))
            if name != "level":
                axes.axhline(0, color=GREY, ls="--", lw=1.0)
        label_times(panels[-1], made.labels, 8)
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
