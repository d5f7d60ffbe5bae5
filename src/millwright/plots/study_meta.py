"""The figures of a meta-analysis: the trials with what they say together; what was learned."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from scipy.special import ndtri

from millwright.draws.intervals import interval, kind_words
from millwright.draws.numbers import chance_text
from millwright.draws.region import density
from millwright.plots.funnel import funnel
from millwright.plots.panels import Size
from millwright.plots.study_evidence import over_widths
from millwright.plots.study_meta_covariates import covariates_figure
from millwright.plots.study_meta_path import models_figure, path_figure
from millwright.plots.style import (
    BLUE,
    GREEN,
    GREY,
    INK,
    PURPLE,
    YELLOW,
    finish,
    light_grid,
    new_figure,
    styled,
    tint,
    wrapped,
)
from millwright.studies.grid_density import GridDensity
from millwright.studies.meta_findings import MetaFindings
from millwright.studies.meta_numbers import CORRECTED
from millwright.studies.sentences import middle_words
from millwright.wording import visible

__all__ = ["figures"]

_MOST_TRIALS = 40
_SMALLEST, _LARGEST = 18.0, 220.0
_HILL = 0.8
_CORRECTED = "effect, publication\nbias allowed for"
_DIFFER, _SAME = "effect, if\ntrials differ", "effect, if the\nsame in all trials"
_SHOWN = 0.995


def forest_figure(found: MetaFindings, size: Size | None, text: bool) -> Figure:
    """Draw each trial as given and as pulled towards the others, and below what they say."""
    trials, labels = found.study.table.trials, found.study.table.labels
    shown = min(len(labels), _MOST_TRIALS)
    sums = _sums(found)
    height = min(15.0, 2.6 + 0.34 * shown + 0.62 * len(sums))
    with styled():
        figure = new_figure(size, (12.8, height))
        axes = figure.subplots()
        shrunken = found.trial_effects()
        weights = 1 / trials.errors**2
        areas = _SMALLEST + (_LARGEST - _SMALLEST) * weights / weights.max()
        z = float(ndtri(0.5 + found.level / 2))
        for row in range(shown):
            middle, reach = trials.estimates[row], z * trials.errors[row]
            axes.plot([middle - reach, middle + reach], [row, row], color=INK, lw=1.3, zorder=2)
            low, high = (float(shrunken.iloc[row][c]) for c in _interval_columns(found))
            own = row + 0.3
            axes.plot([low, high], [own, own], color=BLUE, lw=2.6, zorder=2, alpha=0.55)
            axes.plot(shrunken["median"].iloc[row], own, "o", color="white", mec=BLUE, ms=4.5)
            _told_right(
                axes, row, middle_words(middle, (middle - reach, middle + reach), reach / z)
            )
        axes.scatter(
            trials.estimates[:shown], range(shown), s=areas[:shown], color=INK, lw=0, zorder=3
        )
        places = [shown + 1.0 + 1.5 * at for at in range(len(sums))]
        for place, (name, values, colour) in zip(places, sums, strict=True):
            _hill(axes, place, name, values, colour, found)
        axes.axhline(shown + 0.1, color=GREY, lw=0.8)
        axes.axvline(0, color=GREY, ls="--", lw=1.2, zorder=1)
        if found.study.settings["rope"] is not None:
            axes.axvspan(*found.study.settings["rope"], color=tint(GREEN, 0.4), lw=0, zorder=0)
        names = [wrapped(visible(label), 24) for label in labels[:shown]]
        axes.set_yticks([*range(shown), *places], [*names, *(name for name, *_ in sums)])
        axes.tick_params(axis="y", length=0)
        axes.set_ylim(places[-1] + 0.4, -0.7)
        axes.set_xlabel(visible(found.study.table.shown))
        light_grid(axes, "x")
        cut = f" The first {shown} of {len(labels)} trials." * (shown < len(labels))
        return finish(
            figure,
            found.question,
            f"Black: estimates as given with {100 * found.level:g} % intervals, area by weight. "
            "Blue below: the trial's own effect, pulled towards the others. Hills: posterior "
            f"of the effect, line: median, dark: {kind_words(found.kind, found.level)}."
            + " Green band: region of practical equivalence."
            * (found.study.settings["rope"] is not None)
            + cut,
            text,
            about=found,
        )


def _interval_columns(found: MetaFindings) -> list[str]:
    words = kind_words(found.kind, found.level)
    return [f"{words}, from", f"{words}, to"]


def _sums(found: MetaFindings) -> list[tuple[str, np.ndarray, str]]:
    """Return what the trials say together: name, draws, colour."""
    numbers = found.numbers
    sums = [
        (_DIFFER, numbers["effect"].reshape(-1), BLUE),
        (_SAME, numbers["effect, common to all"].reshape(-1), PURPLE),
        ("a next trial's\nown effect", numbers["next trial"].reshape(-1), YELLOW),
    ]
    if found.bias is not None:
        sums.append((_CORRECTED, numbers[CORRECTED].reshape(-1), GREEN))
    return sums


def _told_right(axes: Axes, row: float, words: str) -> None:
    axes.annotate(
        words,
        (1.0, row),
        (6, 0),
        xycoords=("axes fraction", "data"),
        textcoords="offset points",
        va="center",
        fontsize=9.5,
        color=INK,
        annotation_clip=False,
    )


def _hill(
    axes: Axes, place: float, name: str, values: np.ndarray, colour: str, found: MetaFindings
) -> None:
    """Draw a density that stands on its row."""
    exact = {
        _DIFFER: found.densities["effect"],
        _SAME: found.densities["effect, common to all"],
        _CORRECTED: found.densities.get(CORRECTED),
    }
    curve = exact.get(name)
    if curve is not None:
        x, y = curve.grid, curve.densities
        ends = curve.interval(found.level, found.kind)
        middle = curve.median
    else:
        x, y = density(values)
        low, high = interval(values, found.level, found.kind)
        ends = float(low), float(high)
        middle = float(np.median(values))
    inside = y > 0.01 * y.max()
    x, y = x[inside], y[inside]
    top = place - _HILL * y / y.max()
    axes.fill_between(x, place, top, color=tint(colour, 0.35), lw=0, zorder=2)
    dark = (x >= ends[0]) & (x <= ends[1])
    axes.fill_between(x[dark], place, top[dark], color=tint(colour, 0.75), lw=0, zorder=2)
    height = float(np.interp(middle, x, top))
    axes.plot([middle, middle], [place, height], color=INK, lw=1.4, zorder=3)
    _told_right(axes, place - 0.3, middle_words(middle, ends, float(values.std(ddof=1))))


def priors_figure(found: MetaFindings, size: Size | None, text: bool) -> Figure:
    """Draw priors and posteriors of effect and spread: where trials taught something."""
    exact, priors = found.study.exact, found.study.priors
    with styled():
        figure = new_figure(size, (12.8, 5.6))
        left, right = figure.subplots(1, 2)
        _prior_line(left, *priors["effect"].curve(0.98))
        _line(left, exact["random"].of_effect, BLUE, "-", "posterior, trials differ")
        _line(left, exact["common"].of_effect, PURPLE, "--", "posterior, same in all trials")
        left.set_xlabel("effect, where there is one")
        left.set_title(
            _chance("an effect", found.inclusions["effect"].after), loc="left", fontsize=11
        )
        _prior_line(right, *priors["spread"].curve(0.98))
        _line(right, exact["random"].of_spread, BLUE, "-", "posterior, with an effect")
        _line(right, exact["null random"].of_spread, PURPLE, "--", "posterior, without")
        right.set_xlabel("spread between trials, where there is any")
        right.set_title(
            _chance("spread", found.inclusions["spread"].after), loc="left", fontsize=11
        )
        for axes in (left, right):
            axes.set_yticks([])
            axes.set_ylim(bottom=0)
            axes.legend(fontsize=9.5)
        return finish(
            figure,
            f"{found.question} What was learned",
            "Where a posterior lies on its prior, the trials taught nothing there. Densities; "
            "areas are 1.",
            text,
            about=found,
        )


def _chance(name: str, value: float) -> str:
    return f"probability of {name}: {chance_text(float(value), 10_000)}"


def _prior_line(axes: Axes, x: np.ndarray, y: np.ndarray) -> None:
    axes.plot(x, y, color=GREY, ls=":", lw=2, label="prior")


def _line(axes: Axes, density: GridDensity, colour: str, style: str, label: str) -> None:
    ends = density.quantile(np.array([1 - _SHOWN, _SHOWN]))
    wide = 0.5 * (ends[1] - ends[0])
    kept = (density.grid >= ends[0] - wide) & (density.grid <= ends[1] + wide)
    axes.plot(
        density.grid[kept], density.densities[kept], color=colour, ls=style, lw=2, label=label
    )


def _widths_figure(found: MetaFindings, size: Size | None, text: bool) -> Figure:
    return over_widths(found, found.effect_factors_by_width(), size, text)


def figures(found: MetaFindings) -> dict[str, Callable[[Size | None, bool], Figure]]:
    """Return what draws each figure of the study, the main one first."""
    known: dict[str, Callable[[MetaFindings, Size | None, bool], Figure]] = {
        "forest": forest_figure,
        "priors": priors_figure,
        "models": models_figure,
        "evidence": _widths_figure,
    }
    if len(found.study.table.units) > 1:
        known["path"] = path_figure
    if found.study.table.design is not None:
        known["covariates"] = covariates_figure
    drawn: dict[str, Callable[[Size | None, bool], Figure]] = {
        name: partial(draw, found) for name, draw in known.items()
    }
    bias = found.bias
    if bias is not None:
        drawn["funnel"] = lambda size, text: funnel(bias, size=size, text=text)
    return drawn
