"""The figures of equations with expectations: responses, unknowns, forecast, shares, paths."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from matplotlib.figure import Figure

from millwright.draws.intervals import kind_words
from millwright.plots.autoregression import forecast, responses
from millwright.plots.over_times import band_over_times, label_times
from millwright.plots.panels import Size
from millwright.plots.prior import prior_posterior
from millwright.plots.shares import shares
from millwright.plots.style import (
    BLUE,
    GREY,
    INK,
    finish,
    new_figure,
    styled,
    wrapped,
)
from millwright.studies.expectations_findings import ExpectationsFindings
from millwright.wording import visible

__all__ = ["figures"]

_MOST = 5
_PANELS = 5
_WIDE = 12.8


def responses_figure(found: ExpectationsFindings, size: Size | None, text: bool) -> Figure:
    """Draw how the variables answer to each shock."""
    return responses(found.responses(), size=size, text=text)


def paths_figure(found: ExpectationsFindings, size: Size | None, text: bool) -> Figure:
    """Draw where each variable was, with readings of those that are read."""
    paths, parts = found.paths(), found.study.parts
    shown = paths.names[:_PANELS]
    levels = np.median(found.worlds.levels, axis=0)
    with styled():
        figure = new_figure(size, (_WIDE, min(8.8, 1.8 + 1.5 * len(shown))))
        panels = figure.subplots(len(shown), 1, squeeze=False, sharex=True)[:, 0]
        x = np.arange(len(paths.labels))
        for j, (axes, name) in enumerate(zip(panels, shown, strict=True)):
            band_over_times(axes, paths.draws[:, :, j], found, BLUE)
            axes.axhline(0, color=GREY, lw=0.9)
            if name in parts.variables:
                at = parts.variables.index(name)
                axes.plot(x, parts.data.values[:, at] - levels[at], "o", color=INK, ms=2.4)
            axes.set_ylabel(wrapped(visible(name), 18))
        label_times(panels[-1], paths.labels, 8)
        left = len(paths.names) - len(shown)
        cut = f" {left} variables more are in paths()." * (left > 0)
        return finish(
            figure,
            found.question,
            "How far each variable was from where it rests, given all readings; line: median, "
            f"band: {kind_words(found.kind, found.level)}; points: readings less the median of "
            f"their level.{cut}",
            text,
            about=found,
        )


def unknowns_figure(found: ExpectationsFindings, size: Size | None, text: bool) -> Figure:
    """Draw the prior of each unknown against its posterior."""
    return prior_posterior(found.posterior, size=size, text=text)


def forecast_figure(found: ExpectationsFindings, size: Size | None, text: bool) -> Figure:
    """Draw the forecast of twelve steps."""
    return forecast(found.forecast(), size=size, text=text)


def shares_figure(found: ExpectationsFindings, size: Size | None, text: bool) -> Figure:
    """Draw shares of forecast variance by the shocks that they come from."""
    return shares(found.shares(), found, size, text)


def figures(found: ExpectationsFindings) -> dict[str, Callable[[Size | None, bool], Figure]]:
    """Return what draws each figure of the study, the main one first."""
    known: dict[str, Callable[[ExpectationsFindings, Size | None, bool], Figure]] = {
        "responses": responses_figure,
        "unknowns": unknowns_figure,
        "forecast": forecast_figure,
        "shares": shares_figure,
        "paths": paths_figure,
    }
    if max(len(found.variables), len(found.study.parts.system.shocks)) > _MOST:
        del known["responses"], known["shares"]
    return {name: partial(draw, found) for name, draw in known.items()}
