"""The figures of a shape: the curve, its slope, functions of the prior, unknowns."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from matplotlib.figure import Figure

from millwright.draws.intervals import kind_words
from millwright.plots.panels import Size
from millwright.plots.prior import prior_posterior
from millwright.plots.spread import draw_spread
from millwright.plots.style import (
    BLUE,
    GREY,
    INK,
    finish,
    light_grid,
    new_figure,
    styled,
    tint,
)
from millwright.studies.smooth_findings import SmoothFindings
from millwright.wording import visible

__all__ = ["figures"]

_WIDE, _TALL = 11.0, 7.6
_LINES = 30
_BEYOND = 0.1


def curve_figure(found: SmoothFindings, size: Size | None, text: bool) -> Figure:
    """Draw the readings with the curve, and below the probability that it rises."""
    readings = found.study.readings
    places = _places(readings.x)
    with styled():
        figure = new_figure(*(size or (_WIDE, _TALL)))
        above, below = figure.subplots(2, 1, sharex=True, height_ratios=(3, 1))
        draw_spread(above, found.curve(places), BLUE)
        bars = None if found.study.settings["error"] is None else readings.errors
        above.errorbar(readings.x, readings.y, yerr=bars, fmt="o", ms=3.6, lw=1.0, color=INK)
        above.set_ylabel(visible(found.study.y))
        rising = found.rising(places)
        below.plot(rising["x"], rising["P(rising)"], color=BLUE, lw=1.6)
        for level in (0.05, 0.5, 0.95):
            below.axhline(level, color=GREY, lw=0.8, ls="-" if level == 0.5 else ":")
        below.set_ylim(-0.03, 1.03)
        below.set_ylabel("probability\nof rising")
        below.set_xlabel(visible(found.study.x))
        light_grid(above, "both")
        return finish(
            figure,
            found.question,
            f"Line: median curve; bands: central 68 % and {kind_words(found.kind, found.level)} "
            "of the curve, without noise; they go a tenth beyond the readings on both sides. "
            "Below: the probability that the curve rises at a place; dotted: 0.05 and 0.95.",
            text,
            about=found,
        )


def slope_figure(found: SmoothFindings, size: Size | None, text: bool) -> Figure:
    """Draw the slope of the curve."""
    with styled():
        figure = new_figure(*(size or (_WIDE, 5.2)))
        axes = figure.subplots()
        draw_spread(axes, found.slope(), BLUE)
        axes.axhline(0, color=GREY, lw=1.0)
        axes.set_xlabel(visible(found.study.x))
        axes.set_ylabel(f"slope of {visible(found.study.y)}")
        light_grid(axes, "both")
        return finish(
            figure,
            found.question,
            f"Line: median slope; bands: central 68 % and {kind_words(found.kind, found.level)}. "
            "Above 0 the curve rises.",
            text,
            about=found,
        )


def prior_figure(found: SmoothFindings, size: Size | None, text: bool) -> Figure:
    """Draw functions from the priors, with the readings."""
    readings = found.study.readings
    curves = found.study.prior_curves()
    with styled():
        figure = new_figure(*(size or (_WIDE, 5.8)))
        axes = figure.subplots()
        for line in curves.draws[:_LINES]:
            axes.plot(curves.x, line, color=tint(BLUE, 0.5), lw=1.0)
        axes.plot(readings.x, readings.y, "o", color=INK, ms=3.6)
        axes.set_xlabel(visible(found.study.x))
        axes.set_ylabel(visible(found.study.y))
        light_grid(axes, "both")
        return finish(
            figure,
            found.question,
            f"{_LINES} functions from the priors, before any reading; points: the readings. "
            "Shapes that you would rule out beforehand ask for other priors.",
            text,
            about=found,
        )


def unknowns_figure(found: SmoothFindings, size: Size | None, text: bool) -> Figure:
    """Draw the prior of each unknown against its posterior."""
    return prior_posterior(found.posterior, size=size, text=text)


def _places(x: np.ndarray) -> np.ndarray:
    reach = _BEYOND * (x.max() - x.min())
    return np.linspace(x.min() - reach, x.max() + reach, 120)


def figures(found: SmoothFindings) -> dict[str, Callable[[Size | None, bool], Figure]]:
    """Return what draws each figure of the study, the main one first."""
    known: dict[str, Callable[[SmoothFindings, Size | None, bool], Figure]] = {
        "curve": curve_figure,
        "slope": slope_figure,
        "prior": prior_figure,
        "unknowns": unknowns_figure,
    }
    return {name: partial(draw, found) for name, draw in known.items()}
