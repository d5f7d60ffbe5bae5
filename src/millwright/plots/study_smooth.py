"""The figures of a shape: the curve, its slope, functions of the prior, unknowns."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from matplotlib.axes import Axes
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
_MOST = 4
_OF_A_MAP = 2
_BEYOND = 0.1
_DRAWN_WHOLE = 200


def curve_figure(found: SmoothFindings, size: Size | None, text: bool) -> Figure:
    """Draw the readings with the curve, and below the probability that it rises."""
    columns = found.study.x[:_MOST]
    with styled():
        figure = new_figure(size, (_WIDE, _TALL))
        panels = figure.subplots(
            2, len(columns), squeeze=False, sharex="col", sharey="row", height_ratios=(3, 1)
        )
        for (above, below), name in zip(panels.T, columns, strict=True):
            places = _places(found.study.data[name].to_numpy(float))
            draw_spread(above, found.curve(places, along=name), BLUE)
            _readings(above, found, name)
            rising = found.rising(places, along=name)
            below.plot(rising["x"], rising["P(rising)"], color=BLUE, lw=1.6)
            for level in (0.05, 0.5, 0.95):
                below.axhline(level, color=GREY, lw=0.8, ls="-" if level == 0.5 else ":")
            below.set_ylim(-0.03, 1.03)
            below.set_xlabel(visible(name))
            light_grid(above, "both")
        panels[0, 0].set_ylabel(_told(found))
        panels[1, 0].set_ylabel("probability\nof rising")
        return finish(
            figure,
            found.question,
            f"Line: median curve; bands: central 68 % and {kind_words(found.kind, found.level)} "
            "of the curve, without noise; they go a tenth beyond the readings on both sides. "
            "Below: the probability that the curve rises at a place; dotted: 0.05 and 0.95."
            f"{_held(found)}",
            text,
            about=found,
        )


def _told(found: SmoothFindings) -> str:
    """Return what the curve is of, for an axis."""
    family = found.study.family
    if not family.latent:
        return visible(found.study.y)
    over = found.study.settings.get("exposure")
    each = f"\nfor 1 of {visible(over)}" if over else ""
    return f"{family.quantity} of {visible(found.study.y)}{each}"


def _held(found: SmoothFindings) -> str:
    """Return what is to be known of several columns."""
    if len(found.study.x) == 1:
        return ""
    left = len(found.study.x) - _MOST
    cut = f" {left} columns more by curve(along=...)." * (left > 0)
    return f" Each curve with the other columns at their medians; points: all readings.{cut}"


def _readings(axes: Axes, found: SmoothFindings, name: str) -> None:
    """Draw readings along a column: yes and no as marks above and below."""
    study = found.study
    x, y = (study.data[one].to_numpy(float) for one in (name, study.y))
    if study.family.name == "bernoulli":
        axes.plot(x, y, "|", color=INK, ms=9, mew=1.0)
        return
    over = study.settings.get("exposure")
    if over is not None:
        y = y / study.data[over].to_numpy(float)
    error = study.settings["error"]
    if len(x) > _DRAWN_WHOLE:
        # Under the curve and small, or they would hide it.
        axes.plot(x, y, "o", ms=2.2, mew=0, color=GREY, alpha=0.45, zorder=0.9, rasterized=True)
        return
    bars = None if error is None else study.data[error].to_numpy(float)
    axes.errorbar(x, y, yerr=bars, fmt="o", ms=3.6, lw=1.0, color=INK)


def slope_figure(found: SmoothFindings, size: Size | None, text: bool) -> Figure:
    """Draw the slope of the curve."""
    columns = found.study.x[:_MOST]
    with styled():
        figure = new_figure(size, (_WIDE, 5.2))
        panels = figure.subplots(1, len(columns), squeeze=False)[0]
        for axes, name in zip(panels, columns, strict=True):
            draw_spread(axes, found.slope(along=name), BLUE)
            axes.axhline(0, color=GREY, lw=1.0)
            axes.set_xlabel(visible(name))
            light_grid(axes, "both")
        panels[0].set_ylabel(f"slope of {found.study.family.scale_of(visible(found.study.y))}")
        return finish(
            figure,
            found.question,
            f"Line: median slope; bands: central 68 % and {kind_words(found.kind, found.level)}. "
            f"Above 0 the curve rises.{_held(found).replace('; points: all readings', '')}",
            text,
            about=found,
        )


def map_figure(found: SmoothFindings, size: Size | None, text: bool) -> Figure:
    """Draw the curve over two columns as a map, beside how unsure it is."""
    first, second = found.study.x
    across, up, drawn = found.over_two()
    with styled():
        figure = new_figure(size, (_WIDE, 5.6))
        panels = figure.subplots(1, 2, sharex=True, sharey=True)
        middle, spread = np.median(drawn, axis=0), drawn.std(axis=0)
        for axes, values, words in (
            (panels[0], middle, "median"),
            (panels[1], spread, "posterior sd"),
        ):
            shown = axes.contourf(across, up, values.T, levels=12, cmap="cividis")
            bar = figure.colorbar(shown, ax=axes)
            bar.set_label(f"{words} of {_told(found)}")
            axes.plot(found.study.data[first], found.study.data[second], "o", color="white", ms=3)
            axes.set_xlabel(visible(first))
        panels[0].set_ylabel(visible(second))
        return finish(
            figure,
            found.question,
            "Left: the median at each place; right: how unsure it is. White points: readings.",
            text,
            about=found,
        )


def prior_figure(found: SmoothFindings, size: Size | None, text: bool) -> Figure:
    """Draw functions from the priors, with the readings."""
    study = found.study
    curves = study.prior_curves()
    with styled():
        figure = new_figure(size, (_WIDE, 5.8))
        axes = figure.subplots()
        for line in curves.draws[:_LINES]:
            axes.plot(curves.x, line, color=tint(BLUE, 0.5), lw=1.0)
        _readings(axes, found, study.x[0])
        axes.set_xlabel(visible(study.x[0]))
        axes.set_ylabel(_told(found))
        light_grid(axes, "both")
        return finish(
            figure,
            found.question,
            f"{_LINES} functions from the priors, before any reading; points: the readings. "
            f"Shapes that you would rule out beforehand ask for other priors.{_held(found)}",
            text,
            about=found,
        )


def unknowns_figure(found: SmoothFindings, size: Size | None, text: bool) -> Figure:
    """Draw the prior of each unknown against its posterior."""
    names = list(found.numbers)
    return prior_posterior(found.posterior, names, size=size, text=text)


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
    if len(found.study.x) == _OF_A_MAP:
        known["map"] = map_figure
    return {name: partial(draw, found) for name, draw in known.items()}
