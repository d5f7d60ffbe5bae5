"""The figures of a vector autoregression: coefficients in time, responses, forecasts, shares."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.draws.intervals import interval, kind_words
from millwright.plots.autoregression import forecast, responses
from millwright.plots.over_times import band_over_times, label_times
from millwright.plots.panels import Size
from millwright.plots.shares import shares
from millwright.plots.style import (
    BLUE,
    GREY,
    INK,
    RED,
    finish,
    light_grid,
    new_figure,
    styled,
    wrapped,
)
from millwright.studies.autoregression_findings import AutoregressionFindings
from millwright.wording import visible

__all__ = ["figures"]

_WIDE = 12.8
_MOST_ROWS, _MOST_COLUMNS = 4, 5
_LEVELS = 1


def coefficients_figure(found: AutoregressionFindings, size: Size | None, text: bool) -> Figure:
    """Draw each coefficient in time with its band, and least squares; constant ones as bars."""
    parts = found.study.parts
    made = parts.data
    rows = list(range(min(len(made.series), _MOST_ROWS)))
    columns = list(range(min(len(made.terms), _MOST_COLUMNS)))
    with styled():
        figure = new_figure(size, (_WIDE, min(8.6, 1.9 + 1.9 * len(rows))))
        panels = figure.subplots(len(rows), len(columns), squeeze=False)
        for j in rows:
            for r in columns:
                axes = panels[j, r]
                (_path if parts.step_scale[j, r] > 0 else _bar)(axes, found, j, r)
                if j == 0:
                    axes.set_title(wrapped(visible(made.terms[r]), 20), fontsize=10)
                if r == 0:
                    axes.set_ylabel(wrapped(visible(made.series[j]), 18))
                axes.tick_params(labelsize=8.5)
        left = len(made.series) * len(made.terms) - len(rows) * len(columns)
        cut = f" {left} coefficients more are in coefficients()." * (left > 0)
        return finish(
            figure,
            f"{found.question} Coefficients",
            f"Rows: the series explained; columns: by what. Line: median, band: "
            f"{kind_words(found.kind, found.level)}. Red, dash-dotted: least squares with "
            "constant coefficients. Grey dashes: 0. Level: each series with all at their "
            f"means.{cut}",
            text,
            about=found,
        )


def _path(axes: Axes, found: AutoregressionFindings, j: int, r: int) -> None:
    made = found.study.parts.data
    values = found.path(j, r)
    band_over_times(axes, values, found, BLUE)
    axes.axhline(made.classical[0][j, r], color=RED, ls="-.", lw=1.3)
    if r >= _LEVELS:
        axes.axhline(0, color=GREY, ls="--", lw=1.0)
    label_times(axes, made.labels, 3)


def _bar(axes: Axes, found: AutoregressionFindings, j: int, r: int) -> None:
    values = found.path(j, r)[:, 0]
    low, high = interval(values, found.level, found.kind)
    inner = np.quantile(values, [0.25, 0.75])
    axes.plot([low, high], [1, 1], color=BLUE, lw=1.8)
    axes.plot(inner, [1, 1], color=BLUE, lw=5, solid_capstyle="butt")
    axes.plot(np.median(values), 1, "o", color="white", mec=INK, ms=6)
    axes.axvline(found.study.parts.data.classical[0][j, r], color=RED, ls="-.", lw=1.3)
    if r >= _LEVELS:
        axes.axvline(0, color=GREY, ls="--", lw=1.0)
    axes.set_ylim(0.4, 1.6)
    axes.set_yticks([])
    axes.locator_params(axis="x", nbins=4)
    light_grid(axes, "x")


def errors_figure(found: AutoregressionFindings, size: Size | None, text: bool) -> Figure:
    """Draw the sd of each series' errors in time with its band."""
    made = found.study.parts.data
    shown = made.series[:_MOST_ROWS]
    with styled():
        figure = new_figure(size, (_WIDE, min(8.6, 1.6 + 1.7 * len(shown))))
        panels = figure.subplots(len(shown), 1, squeeze=False, sharex=True)[:, 0]
        for j, (axes, name) in enumerate(zip(panels, shown, strict=True)):
            band_over_times(axes, found.error_sds[:, :, j], found, BLUE)
            axes.set_ylim(0, None)
            axes.set_ylabel(wrapped(visible(name), 18))
        label_times(panels[-1], made.labels, 7)
        left = len(made.series) - len(shown)
        cut = f" {left} series more are in error_spread()." * (left > 0)
        return finish(
            figure,
            f"{found.question} Sds of errors",
            "What the past leaves unexplained, in units of each series. Line: median, band: "
            f"{kind_words(found.kind, found.level)}.{cut}",
            text,
            about=found,
        )


def responses_figure(found: AutoregressionFindings, size: Size | None, text: bool) -> Figure:
    """Draw responses at the first, middle and last time, or of constant coefficients."""
    labels = found.study.parts.data.labels
    times: list[str | None] = [None]
    if found.study.parts.changes:
        times = [labels[0], labels[len(labels) // 2], labels[-1]]
    return responses(found.responses(times), size=size, text=text)


def forecast_figure(found: AutoregressionFindings, size: Size | None, text: bool) -> Figure:
    """Draw the forecast of twelve steps."""
    return forecast(found.forecast(), size=size, text=text)


def shares_figure(found: AutoregressionFindings, size: Size | None, text: bool) -> Figure:
    """Draw shares of forecast variance by the shocks that they come from."""
    return shares(found.shares(), found, size, text)


def figures(
    found: AutoregressionFindings,
) -> dict[str, Callable[[Size | None, bool], Figure]]:
    """Return what draws each figure of the study, the main one first."""
    known: dict[str, Callable[[AutoregressionFindings, Size | None, bool], Figure]] = {
        "coefficients": coefficients_figure,
        "errors": errors_figure,
        "responses": responses_figure,
        "forecast": forecast_figure,
        "shares": shares_figure,
    }
    if not found.study.parts.errors_drift:
        del known["errors"]
    if found.study.parts.data.others:
        del known["forecast"]
    if len(found.study.parts.data.series) > 5:
        del known["responses"]
    return {name: partial(draw, found) for name, draw in known.items()}
