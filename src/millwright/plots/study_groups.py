"""The figures of a study of groups."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator
from scipy import stats

from millwright.draws.intervals import interval, kind_words
from millwright.plots.factor_ticks import factor_ticks
from millwright.plots.panels import Size
from millwright.plots.posterior_density import density_panel
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
from millwright.studies.group_findings import GroupFindings
from millwright.wording import visible

__all__ = ["REGION", "evidence_figure", "factor_lines", "groups_figure"]

_CURVES = 25
_MOST_PAIRS = 15
REGION = (
    " Green band: region of practical equivalence, with the share of the posterior below, inside "
    "and above it."
)
_NORMAL_DF = (1, 2, 5, 10, 30, 100)


def groups_figure(found: GroupFindings, size: Size | None, text: bool) -> Figure:
    """Draw all data with fitted curves, and below a panel for each question."""
    with styled():
        figure = new_figure(*(size or (12.8, 8.0)))
        above, below = figure.subfigures(2, 1, squeeze=False, height_ratios=(1.25, 1))[:, 0]
        _data(above.subplots(), found)
        panels = _questions(found)
        axes = below.subplots(1, len(panels), squeeze=False)[0]
        for panel, draw in zip(axes, panels, strict=True):
            draw(panel)
        words = kind_words(found.kind, found.level)
        return finish(
            figure,
            found.question,
            "Above: every value as a dot, beside it curves of the fitted distribution at "
            f"{_CURVES} draws; line: median of the location. Below: posterior of what is asked, "
            f"shaded: {words}; line inside: median.{REGION * bool(found.decisions)}",
            text,
            about=found,
        )


def _groups(found: GroupFindings) -> list[tuple[str, np.ndarray, int | None]]:
    """Return name, values and place of each group."""
    data = found.study.values
    if data.group is None:
        return [(data.outcome, data.values(), None)]
    return [(label, data.values(label), at) for at, label in enumerate(data.labels)]


def _data(axes: Axes, found: GroupFindings) -> None:
    draws = found.posterior.draws
    groups = _groups(found)
    known = set(draws.names())
    df = draws.get("df").reshape(-1) if "df" in known else None
    chosen = np.linspace(0, draws.get("location")[..., 0].size - 1, _CURVES).astype(int)
    if groups[0][2] is None:
        chosen = np.linspace(0, draws.get("location").size - 1, _CURVES).astype(int)
    every = np.concatenate([values for _, values, _ in groups])
    room = 0.12 * np.ptp(every)
    grid = np.linspace(every.min() - room, every.max() + room, 300)
    generator = np.random.default_rng(1)
    for place, (_, values, at) in enumerate(groups):
        location, scale = (
            (draws.get(name) if at is None else draws.get(name)[..., at]).reshape(-1)
            for name in ("location", "scale")
        )
        z = (grid - location[chosen, None]) / scale[chosen, None]
        shape = stats.norm.pdf(z) if df is None else stats.t.pdf(z, df[chosen, None])
        curves = shape / scale[chosen, None]
        # The steepest curve fills the room beside the dots.
        tall = 0.46 / curves.max()
        for curve in curves:
            axes.plot(place + 0.04 + tall * curve, grid, color=tint(BLUE, 0.55), lw=0.8, zorder=2)
        middle = float(np.median(location))
        axes.plot([place + 0.02, place + 0.5], [middle] * 2, color=PURPLE, lw=2, zorder=3)
        shift = generator.uniform(0.02, 0.3, len(values)) if len(values) > 1 else [0.1]
        axes.plot(
            place - np.asarray(shift), values, "o", ms=4.5, color=INK, mew=0, alpha=0.75, zorder=3
        )
    against = found.study.settings["against"]
    if against is not None:
        axes.axhline(against, color=GREY, ls="--", lw=1.4, zorder=1)
        axes.annotate(
            f"compared with {against:g}",
            (1, against),
            (-2, 3),
            xycoords=axes.get_yaxis_transform(),
            textcoords="offset points",
            ha="right",
            fontsize=9,
        )
    names = [f"{wrapped(visible(name), 20)}\n{len(values)} rows" for name, values, _ in groups]
    axes.set_xticks(range(len(groups)), names)
    axes.set_xlim(-0.5, len(groups) - 0.4)
    axes.set_ylim(grid[0], grid[-1])
    axes.set_ylabel(_outcome_words(found))
    light_grid(axes, "y")


def _outcome_words(found: GroupFindings) -> str:
    if found.study.settings["kind"] == "paired":
        first, second = found.study.values.labels
        return visible(f"{second} minus {first}")
    return visible(found.study.values.outcome)


def _questions(found: GroupFindings) -> list[Callable[[Axes], None]]:
    """Return what draws each panel below the data."""
    settings = found.study.settings
    draws = found.posterior.draws
    known = set(draws.names())
    panels: list[Callable[[Axes], None]] = []

    def density(title: str, values: np.ndarray, region: tuple[float, float] | None) -> None:
        def draw(axes: Axes) -> None:
            density_panel(axes, values.reshape(-1), found.level, found.kind, region)
            axes.set_title(wrapped(visible(title), 34))
            axes.xaxis.set_major_locator(MaxNLocator(5))

        panels.append(draw)

    if len(found.study.values.labels) > 2 and found.study.values.group is not None:
        panels.append(lambda axes: _all_pairs(axes, found))
    elif "difference" in known:
        regions = [
            None if settings[name] is None else tuple(settings[name])
            for name in ("rope", "effect_rope")
        ]
        density(f"difference: {found.compared}", draws.get("difference"), regions[0])
        density("effect (difference / scale)", draws.get("effect"), regions[1])
    else:
        density("location", draws.get("location"), None)
        density("scale", draws.get("scale"), None)
    if "scale_difference" in known:
        one, other = found.study.values.labels
        density(f"scales: {other} - {one}", draws.get("scale_difference"), None)
    if "normality" in known:
        panels.append(lambda axes: _tails(axes, found))
    return panels


def _tails(axes: Axes, found: GroupFindings) -> None:
    values = found.posterior.draws.get("normality").reshape(-1)
    density_panel(axes, values, found.level, found.kind, None)
    axes.set_xticks(np.log10(_NORMAL_DF), [str(df) for df in _NORMAL_DF])
    axes.set_xlim(-0.05, max(2.05, float(values.max())))
    low, high = (10 ** float(end) for end in interval(values, found.level, found.kind))
    axes.set_xlabel(f"{kind_words(found.kind, found.level)} {low:.3g} to {high:.3g}", fontsize=9.5)
    axes.set_title("df: under 10 heavy tails, 30 on normal")


def _all_pairs(axes: Axes, found: GroupFindings) -> None:
    """Draw the differences of all pairs as intervals."""
    frame = found.differences()
    rows = frame[frame.index.get_level_values("of") == "difference"].iloc[:_MOST_PAIRS]
    ends = [column for column in frame.columns if column.endswith((", from", ", to"))]
    names = [visible(str(name)) for name, _ in rows.index]
    region = found.study.settings["rope"]
    if region is not None:
        axes.axvspan(*region, color=tint(GREEN, 0.4), lw=0, zorder=0)
    axes.axvline(0, color=GREY, ls="--", lw=1.2)
    for at, (_, row) in enumerate(rows.iterrows()):
        axes.plot([row[ends[0]], row[ends[1]]], [at, at], color=BLUE, lw=3)
        axes.plot(row["median"], at, "o", color="white", mec=INK)
    axes.set_yticks(range(len(names)), names)
    axes.set_ylim(len(names) - 0.5, -0.5)
    more = len(found.study.values.labels) * (len(found.study.values.labels) - 1) // 2
    cut = f" (the first {_MOST_PAIRS} of {more})" if more > _MOST_PAIRS else ""
    axes.set_title(f"differences of location{cut}")
    light_grid(axes, "x")


def evidence_figure(
    table: pd.DataFrame, found: object, question: str, size: Size | None, text: bool
) -> Figure:
    """Draw Bayes factors over the width of the prior.

    Parameters
    ----------
    table
        One row a width; columns of log Bayes factors start with `log BF, `.
    """
    with styled():
        figure = new_figure(*(size or (12.8, 6.0)))
        axes = figure.subplots()
        factor_lines(axes, table)
        axes.set_xscale("log")
        axes.set_xticks(list(table.index), [f"{width:.3g}" for width in table.index], minor=False)
        axes.minorticks_off()
        axes.set_xlabel("width of the prior")
        figure.legend(loc="outside right upper")
        return finish(
            figure,
            f"{question} How the evidence rests on the prior's width",
            "Above 1 the data favour what the line is named after, below 1 that there is none; "
            "dotted: 3 and 10. Where lines cross 1 within sensible widths, the data say little.",
            text,
            about=found,
        )


_LINES = ((BLUE, "-"), (PURPLE, "--"), (YELLOW, "-."))


def factor_lines(axes: Axes, table: pd.DataFrame) -> None:
    """Draw log Bayes factors over the index of a table, with the thresholds of words."""
    columns = [name for name in table.columns if str(name).startswith("log BF, ")]
    for (colour, style), name in zip(_LINES, columns, strict=False):
        label = str(name).removeprefix("log BF, ")
        axes.plot(table.index, table[name], color=colour, ls=style, lw=2, label=label)
    axes.axhline(0, color=INK, lw=1)
    values = table[columns].to_numpy(float)
    reach = max(np.log(30.0), 1.1 * float(np.nanmax(np.abs(values[np.isfinite(values)]))))
    for threshold in (3, 10):
        for sign in (-1, 1):
            axes.axhline(sign * np.log(threshold), color=GREY, lw=0.8, ls=":")
    axes.set_ylim(-reach, reach)
    axes.set_yticks(*factor_ticks(reach))
    axes.set_ylabel("Bayes factor over none")
