"""The figures of a study of regression."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.draws.intervals import interval, kind_words
from millwright.errors import ArgumentError
from millwright.plots.panels import Size
from millwright.plots.study_group_effects import groups_figure
from millwright.plots.study_residuals import residuals_figure
from millwright.plots.style import (
    BLUE,
    CHAINS,
    GREEN,
    GREY,
    INK,
    finish,
    light_grid,
    new_figure,
    styled,
    tint,
    wrapped,
)
from millwright.studies.reading import label_text
from millwright.studies.regression_draws import RegressionDraws
from millwright.studies.regression_findings import RegressionFindings
from millwright.studies.regression_model import RegressionParts
from millwright.wording import visible

__all__ = ["figures"]

_MOST_ROWS = 30
_MOST_EFFECTS = 6


def coefficients_figure(found: RegressionFindings, size: Size | None, text: bool) -> Figure:
    """Draw standardised coefficients as intervals, formula beside formula."""
    every = {
        name: RegressionDraws(posterior, found.study.parts[name]).coefficients(standardised=True)
        for name, posterior in found.posteriors.items()
    }
    names = list(dict.fromkeys(key for one in every.values() for key in one))
    if not names:
        raise ArgumentError("The formula has no predictors, so there is nothing to draw.")
    shown = names[:_MOST_ROWS]
    with styled():
        high = min(8.0, 2.6 + 0.34 * len(shown) * max(1, 0.6 * len(every)))
        figure = new_figure(size, (12.8, max(4.0, high)))
        axes = figure.subplots()
        region = found.study.settings["rope"]
        if region is not None:
            axes.axvspan(*region, color=tint(GREEN, 0.4), lw=0, zorder=0)
        axes.axvline(0, color=GREY, ls="--", lw=1.2, zorder=1)
        for at, (formula, numbers) in enumerate(every.items()):
            _rows(axes, found, shown, numbers, at, len(every), formula)
        axes.set_yticks(range(len(shown)), [wrapped(visible(name), 34) for name in shown])
        axes.set_ylim(len(shown) - 0.4, -0.6)
        axes.set_xlabel("change of the predictor for one sd more, on the link's scale")
        light_grid(axes, "x")
        if len(every) > 1:
            figure.legend(loc="outside right upper")
        words = kind_words(found.kind, found.level)
        cut = f" The first {_MOST_ROWS} of {len(names)} are shown." * (len(names) > _MOST_ROWS)
        return finish(
            figure,
            found.question,
            f"Standardised coefficients: dot: median, thin bar: {words}, thick bar: 50 %. Dashed: "
            "no effect."
            + " Green band: region of practical equivalence." * (region is not None)
            + cut,
            text,
            about=found,
        )


def _rows(
    axes: Axes,
    found: RegressionFindings,
    names: list[str],
    numbers: dict[str, np.ndarray],
    at: int,
    count: int,
    formula: str,
) -> None:
    colour = BLUE if count == 1 else CHAINS[at % len(CHAINS)][0]
    style = "-" if count == 1 else CHAINS[at % len(CHAINS)][1]
    shift = 0.0 if count == 1 else (at - (count - 1) / 2) * 0.6 / count
    label: str | None = visible(formula)
    for place, name in enumerate(names):
        if name not in numbers:
            continue
        values = numbers[name].reshape(-1)
        ends = interval(values, found.level, found.kind)
        inner = np.quantile(values, [0.25, 0.75])
        y = place + shift
        axes.plot(list(ends), [y, y], color=colour, ls=style, lw=1.6, zorder=2, label=label)
        axes.plot(list(inner), [y, y], color=colour, lw=4, zorder=2, solid_capstyle="butt")
        axes.plot(np.median(values), y, "o", color="white", mec=INK, ms=6, zorder=3)
        label = None


def effects_figure(found: RegressionFindings, size: Size | None, text: bool) -> Figure:
    """Draw how the expected outcome goes with each column, the others held."""
    parts = next(iter(found.study.parts.values()))
    columns = list(parts.design.formula.columns)[:_MOST_EFFECTS]
    if not columns:
        raise ArgumentError("The formula has no predictors, so there is nothing to draw.")
    across = min(3, len(columns))
    down = -(-len(columns) // across)
    with styled():
        figure = new_figure(size, (12.8, min(8.0, 2.2 + 2.8 * down)))
        panels = list(figure.subplots(down, across, squeeze=False).ravel())
        for axes, column in zip(panels, columns, strict=False):
            _effect(axes, found.effect(column), column, parts, found)
        for axes in panels[len(columns) :]:
            axes.set_visible(False)
        if parts.labels:
            handles, labels = panels[0].get_legend_handles_labels()
            figure.legend(handles, labels, loc="outside right upper")
        words = kind_words(found.kind, found.level)
        what = "probability of each label" if parts.labels else "expected outcome"
        return finish(
            figure,
            f"{found.question} Predictor by predictor",
            f"The {what} (median, band or bars: {words}), other predictors at their means or "
            f"reference labels, group effects at 0.{_dots_told(parts)}",
            text,
            about=found,
        )


def _effect(
    axes: Axes,
    table: pd.DataFrame,
    column: str,
    parts: RegressionParts,
    found: RegressionFindings,
) -> None:
    low, high = table.columns[1], table.columns[2]
    labelled = isinstance(table.index, pd.MultiIndex)
    factor = column in parts.design.levels
    groups = (
        [(label, table.xs(label, level=1)) for label in parts.labels]
        if labelled
        else [("", table)]
    )
    for at, (label, rows) in enumerate(groups):
        colour, style = (BLUE, "-") if not labelled else CHAINS[at % len(CHAINS)]
        places = np.arange(len(rows)) + 0.12 * at if factor else rows.index.to_numpy(float)
        if factor:
            axes.vlines(places, rows[low], rows[high], color=colour, lw=3)
            axes.plot(places, rows["median"], "o", color="white", mec=colour, label=label)
        else:
            axes.fill_between(places, rows[low], rows[high], color=tint(colour, 0.35), lw=0)
            axes.plot(places, rows["median"], color=colour, ls=style, lw=2, label=label)
    if factor:
        axes.set_xticks(range(len(groups[0][1])), [visible(str(v)) for v in groups[0][1].index])
        axes.margins(x=0.2)
    if not labelled:
        _dots(axes, column, factor, parts, found)
    axes.set_xlabel(wrapped(visible(f"{column}{_held(column, parts)}"), 44))
    axes.set_ylabel("probability" if labelled else visible(str(parts.outcome)))
    light_grid(axes, "y")


def _dots_told(parts: RegressionParts) -> str:
    """Say what dots are; outcomes that are labels have none."""
    if parts.labels:
        return ""
    dark = "; dark: rows with the labels held" if parts.design.levels else ""
    return f" Dots: the rows of the data, which differ in the other predictors too{dark}."


def _held(column: str, parts: RegressionParts) -> str:
    """Say at which labels other factors are held."""
    others = [f"{k} {v[0]}" for k, v in parts.design.levels.items() if k != column]
    return f", at {', '.join(others[:3])}" if others else ""


def _dots(
    axes: Axes, column: str, factor: bool, parts: RegressionParts, found: RegressionFindings
) -> None:
    """Draw the rows of the data, binomial ones as shares."""
    frame = parts.frame
    outcome = frame[parts.outcome].to_numpy(float)
    if parts.trials is not None:
        with np.errstate(divide="ignore", invalid="ignore"):
            outcome = outcome / frame[parts.trials].to_numpy(float)
    if parts.exposure is not None:
        outcome = outcome / frame[parts.exposure].to_numpy(float)
    raw = found.study.data[column]
    generator = np.random.default_rng(1)
    if factor:
        places = np.array(
            [parts.design.levels[column].index(label_text(v)) for v in raw], dtype=float
        )
        places += generator.uniform(-0.28, -0.08, len(places))
    else:
        places = raw.to_numpy(float)
    alike = _rows_as_held(column, parts, found.study.data)
    for rows, alpha, floor in ((~alike, 0.15, 0), (alike, 0.5, 3)):
        axes.plot(
            places[rows], outcome[rows], "o", ms=3.5, color=INK, mew=0, alpha=alpha, zorder=floor
        )


def _rows_as_held(column: str, parts: RegressionParts, data: pd.DataFrame) -> np.ndarray:
    """Say which rows have the labels at which other factors are held."""
    alike = np.ones(len(data), dtype=bool)
    for name, levels in parts.design.levels.items():
        if name != column:
            alike &= np.array([label_text(value) == levels[0] for value in data[name]])
    return alike


def figures(found: RegressionFindings) -> dict[str, Callable[[Size | None, bool], Figure]]:
    """Return what draws each figure of the study, the main one first."""
    parts = next(iter(found.study.parts.values()))
    known: dict[str, Callable[[RegressionFindings, Size | None, bool], Figure]] = {
        "coefficients": coefficients_figure,
        "effects": effects_figure,
    }
    if parts.groups:
        known["groups"] = groups_figure
    if not parts.labels:
        known["residuals"] = residuals_figure
    return {name: partial(draw, found) for name, draw in known.items()}
