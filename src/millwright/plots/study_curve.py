"""The figures of a curve: its spread over the data, unknowns, correlations."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import partial

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import FuncFormatter, LogFormatter

from millwright.draws.intervals import kind_words
from millwright.plots.panels import Size
from millwright.plots.prior import prior_posterior
from millwright.plots.scatter_matrix import scatter_matrix
from millwright.plots.spread import draw_spread
from millwright.plots.style import (
    CHAINS,
    GREY,
    finish,
    light_grid,
    new_figure,
    styled,
)
from millwright.studies.curve_findings import CurveFindings
from millwright.studies.curve_parts import ERROR_FACTOR, NOISE
from millwright.wording import visible

__all__ = ["figures"]

_WIDE, _TALL = 11.0, 7.6
_MOST_SETS = 4
_MOST_NUMBERS = 6


def curve_figure(found: CurveFindings, size: Size | None, text: bool) -> Figure:
    """Draw the data with the spread of curves, and the residuals below."""
    data = found.study.table
    codes = data.codes()
    labels = data.labels[:_MOST_SETS] or ("",)
    left = found.fit_of_rows()
    with styled():
        figure = new_figure(size, (_WIDE, _TALL))
        above, below = figure.subplots(2, 1, sharex=True, height_ratios=(3.2, 1))
        _scales(above, found)
        for at, label in enumerate(labels):
            colour = CHAINS[at % len(CHAINS)][0]
            rows = codes == at
            curves = found.curves(x=_places(found), label=label or None)
            draw_spread(above, curves, colour)
            _points((above, below), left, rows, found, colour, label)
        above.set_ylabel(visible(data.y))
        below.axhline(0, color=GREY, lw=1.0)
        for line in (-2, 2):
            below.axhline(line, color=GREY, lw=0.8, ls=":")
        below.set_ylabel("residual\n/ error")
        below.set_xlabel(visible(next(iter(data.x.values()))))
        if data.labels:
            above.legend(loc="best", frameon=False)
        return finish(figure, found.question, _caption(found), text, about=found)


def _caption(found: CurveFindings) -> str:
    data = found.study.table
    parts = found.study.parts[next(iter(found.posteriors))]
    scaled = ", times the posterior median of its factor" if ERROR_FACTOR in parts.priors else ""
    error = (
        "which is the noise (posterior median)"
        if NOISE in parts.priors
        else f"and bars of one error above{scaled}"
    )
    told = (
        f"Line: median curve; bands: central 68 % and {kind_words(found.kind, found.level)} of "
        f"the curve, without noise. Below: residuals in units of the error, {error}."
    )
    if data.width is not None:
        told += " Curves are averaged over the resolution of x, as the readings are."
    if len(data.x) > 1:
        told += " The other columns of x are at their means; points lie where their rows put them."
    if len(data.labels) > _MOST_SETS:
        told += f" The first {_MOST_SETS} of {len(data.labels)} data sets."
    return told


def _places(found: CurveFindings) -> np.ndarray:
    """Return places over the range of the data, even on the axis that is drawn."""
    data = found.study.table
    x = data.columns()[0]
    if found.study.settings["axes"] in ("log x", "log"):
        return np.geomspace(x.min(), x.max(), 200)
    return np.linspace(x.min(), x.max(), 200)


def _scales(axes: Axes, found: CurveFindings) -> None:
    chosen = found.study.settings["axes"]
    if chosen in ("log x", "log"):
        axes.set_xscale("log")
    if chosen in ("log y", "log"):
        axes.set_yscale("log")
    for one, kinds in ((axes.xaxis, ("log x", "log")), (axes.yaxis, ("log y", "log"))):
        if chosen in kinds:
            one.set_major_formatter(FuncFormatter(_plain))
            one.set_minor_formatter(LogFormatter(minor_thresholds=(1, 0.4)))
    light_grid(axes, "both")


def _plain(value: float, _: int) -> str:
    """Return a mark of a logarithmic axis as a number, not as a power."""
    return f"{value:g}"


def _points(
    panels: tuple[Axes, Axes],
    left: Mapping[str, np.ndarray],
    rows: np.ndarray,
    found: CurveFindings,
    colour: str,
    label: str,
) -> None:
    data = found.study.table
    x, y = data.columns()[0][rows], data.readings[rows]
    bars = None if data.error is None else left["error"][rows]
    name = visible(label) or None
    panels[0].errorbar(x, y, yerr=bars, fmt="o", ms=3.6, lw=1, color=colour, label=name)
    panels[1].plot(x, left["residual / error"][rows], "o", ms=3.4, color=colour)


def unknowns_figure(found: CurveFindings, size: Size | None, text: bool) -> Figure:
    """Draw the prior of each unknown against its posterior."""
    return prior_posterior(found.posterior, size=size, text=text)


def correlations_figure(found: CurveFindings, size: Size | None, text: bool) -> Figure:
    """Draw the draws of each pair of numbers."""
    names = list(found.numbers)[:_MOST_NUMBERS]
    return scatter_matrix(found.posterior, names, size=size, text=text)


def figures(found: CurveFindings) -> dict[str, Callable[[Size | None, bool], Figure]]:
    """Return what draws each figure of the study, the main one first."""
    known: dict[str, Callable[[CurveFindings, Size | None, bool], Figure]] = {
        "curve": curve_figure,
        "unknowns": unknowns_figure,
    }
    if len(found.numbers) > 1:
        known["correlations"] = correlations_figure
    return {name: partial(draw, found) for name, draw in known.items()}
