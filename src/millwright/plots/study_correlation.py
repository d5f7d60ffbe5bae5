"""The figures of a study of correlation."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.patches import Ellipse, Rectangle
from scipy import stats

from millwright.draws.intervals import interval, kind_words
from millwright.draws.numbers import decimals_of, fixed, range_text
from millwright.draws.region import density_on
from millwright.plots.panels import Size
from millwright.plots.study_evidence import over_rows, over_widths
from millwright.plots.style import (
    BLUE,
    GREEN,
    GREY,
    INK,
    YELLOW,
    bare,
    finish,
    light_grid,
    new_figure,
    styled,
    tint,
    wrapped,
)
from millwright.studies.correlation_findings import CorrelationFindings
from millwright.wording import visible

__all__ = ["figures"]

_CONTOURS = (0.5, 0.95)


def scatter_figure(found: CorrelationFindings, size: Size | None, text: bool) -> Figure:
    """Draw the pairs with contours of the fitted distribution, margins, and the correlation."""
    with styled():
        figure = new_figure(size, (12.8, 7.0))
        grid = figure.add_gridspec(2, 3, width_ratios=(4, 0.9, 3.4), height_ratios=(0.9, 4))
        main = figure.add_subplot(grid[1, 0])
        top = figure.add_subplot(grid[0, 0], sharex=main)
        side = figure.add_subplot(grid[1, 1], sharey=main)
        _pairs(main, top, side, found)
        _rho(figure.add_subplot(grid[:, 2]), found)
        words = kind_words(found.kind, found.level)
        return finish(
            figure,
            found.question,
            "Left: every row as a dot; ellipses hold 50 % and 95 % of the fitted distribution at "
            "posterior medians, its margins stand outside. Right: the correlation before (grey, "
            f"dashed) and after the data (blue); shaded: {words}; dashed line: no correlation.",
            text,
            about=found,
        )


def _pairs(main: Axes, top: Axes, side: Axes, found: CorrelationFindings) -> None:
    pair = found.pairs[0]
    rows = found.study.columns.rows(pair).to_numpy(float)
    draws = found.posterior.draws
    centre = np.median(draws.get("centre").reshape(-1, 2), axis=0)
    spread = np.median(draws.get("spread").reshape(-1, 2), axis=0)
    rho = float(np.median(draws.get("rho")))
    df = float(np.median(draws.get("df"))) if "df" in draws.names() else None
    covariance = np.array([[1, rho], [rho, 1]]) * np.outer(spread, spread)
    values, axes_of = np.linalg.eigh(covariance)
    angle = float(np.degrees(np.arctan2(axes_of[1, 1], axes_of[0, 1])))
    for share in _CONTOURS:
        # Of a bivariate t, half the squared distance is F distributed with 2 and df.
        square = stats.chi2.ppf(share, 2) if df is None else 2 * stats.f.ppf(share, 2, df)
        wide, narrow = 2 * np.sqrt(square * values[::-1])
        main.add_patch(
            Ellipse(
                (float(centre[0]), float(centre[1])),
                wide,
                narrow,
                angle=angle,
                fill=False,
                edgecolor=BLUE,
                lw=1.8,
                zorder=2,
            )
        )
    main.plot(rows[:, 0], rows[:, 1], "o", ms=5, color=INK, mew=0, alpha=0.7, zorder=3)
    main.set_xlabel(visible(pair[0]))
    main.set_ylabel(visible(pair[1]))
    main.margins(0.12)
    main.autoscale_view()
    light_grid(main, "both")
    for margin, at, upright in ((top, 0, False), (side, 1, True)):
        low, high = main.get_xlim() if at == 0 else main.get_ylim()
        grid = np.linspace(low, high, 300)
        z = (grid - centre[at]) / spread[at]
        height = stats.norm.pdf(z) if df is None else stats.t.pdf(z, df)
        if upright:
            margin.plot(height, grid, color=BLUE, lw=1.6)
            margin.plot(np.zeros(len(rows)), rows[:, at], "_", color=INK, ms=8, mew=0.8)
        else:
            margin.plot(grid, height, color=BLUE, lw=1.6)
            margin.plot(rows[:, at], np.zeros(len(rows)), "|", color=INK, ms=8, mew=0.8)
        margin.set_axis_off()


def _rho(axes: Axes, found: CorrelationFindings) -> None:
    low, high = found.study.prior.low, found.study.prior.high
    grid = np.linspace(low + 1e-4, high - 1e-4, 1201)
    values = found.posterior.draws.get("rho").reshape(-1)
    if found.study.settings["form"] == "robust":
        height = density_on(grid, values)
        left, right = interval(values, found.level, found.kind)
        ends = float(left), float(right)
        middle = float(np.median(values))
    else:
        exact = found.rho()
        height = exact.density(grid)
        ends = exact.interval(found.level, found.kind)
        middle = float(exact.quantile(np.array([0.5]))[0])
    before = np.exp(found.study.prior.log_density(np.arctanh(grid)))
    region = found.study.settings["rope"]
    if region is not None:
        axes.axvspan(*region, color=tint(GREEN, 0.4), lw=0, zorder=0)
    inside = np.linspace(*ends, 300)
    axes.fill_between(inside, np.interp(inside, grid, height), color=tint(BLUE, 0.45), lw=0)
    axes.plot(grid, before, color=GREY, ls="--", lw=1.6)
    axes.plot(grid, height, color=BLUE, lw=2)
    axes.vlines(middle, 0, np.interp(middle, grid, height), color=INK, lw=1.4)
    axes.axvline(0, color=GREY, ls="--", lw=1)
    # A prior with poles at the ends is cut at the height of the posterior.
    axes.set_ylim(0, 1.08 * float(height.max()))
    axes.set_xlim(-1, 1)
    axes.set_title("correlation")
    words = kind_words(found.kind, found.level)
    spread = float(values.std(ddof=1))
    shown = fixed(middle, decimals_of(spread))
    axes.set_xlabel(f"median {shown}, {words} {range_text(*ends, spread)}")
    bare(axes)


def matrix_figure(found: CorrelationFindings, size: Size | None, text: bool) -> Figure:
    """Draw all pairs: the size of each correlation as a tilted ellipse, and in numbers."""
    names = [str(name) for name in found.study.columns.frame.columns]
    table = found.pair_table()
    ends = [column for column in table.columns if str(column).endswith((", from", ", to"))]
    n = len(names)
    with styled():
        figure = new_figure(size, (12.8, 8.0))
        axes = figure.subplots()
        for (one, other), (_, row) in zip(found.pairs, table.iterrows(), strict=True):
            i, j = names.index(one), names.index(other)
            rho = float(row["median"])
            sure = row[ends[0]] > 0 or row[ends[1]] < 0
            colour = BLUE if rho >= 0 else YELLOW
            axes.add_patch(
                Ellipse(
                    (j, i),
                    0.8 * np.sqrt(1 + abs(rho)),
                    0.8 * np.sqrt(1 - abs(rho)),
                    angle=-45 * np.sign(rho or 1),
                    facecolor=tint(colour, 0.2 + 0.8 * abs(rho)),
                    edgecolor=INK if sure else GREY,
                    lw=2.0 if sure else 0.8,
                    ls="-" if sure else ":",
                )
            )
            small = max(6.5, 12 - 0.7 * n)
            words = f"{rho:.2f}\n{row[ends[0]]:.2f} to {row[ends[1]]:.2f}"
            if n > 8:
                words = f"{rho:.2f}"
            axes.text(
                i,
                j,
                words,
                ha="center",
                va="center",
                fontsize=small,
                fontweight="bold" if sure else "normal",
                color=INK,
            )
        for at in range(n):
            axes.add_patch(Rectangle((at - 0.5, at - 0.5), 1, 1, color=tint(GREY, 0.15), lw=0))
        axes.set_xticks(range(n), [wrapped(visible(name), 14) for name in names])
        axes.set_yticks(range(n), [wrapped(visible(name), 14) for name in names])
        if n > 8:
            axes.tick_params(axis="x", rotation=60)
        axes.set_xlim(-0.5, n - 0.5)
        axes.set_ylim(n - 0.5, -0.5)
        axes.set_aspect("equal")
        for spine in axes.spines.values():
            spine.set_visible(False)
        axes.tick_params(length=0)
        words = kind_words(found.kind, found.level)
        return finish(
            figure,
            found.question,
            "Above the diagonal: the narrower the ellipse, the stronger the correlation; blue and "
            "rising: positive, yellow and falling: negative; firm edge: interval without 0. "
            f"Below it: median and {words}, bold where it leaves out 0.",
            text,
            about=found,
        )


def figures(found: CorrelationFindings) -> dict[str, Callable[[Size | None, bool], Figure]]:
    """Return what draws each figure of the study, the main one first."""
    if len(found.pairs) > 1:
        return {"matrix": lambda size, text: matrix_figure(found, size, text)}
    drawn: dict[str, Callable[[Size | None, bool], Figure]] = {
        "scatter": lambda size, text: scatter_figure(found, size, text)
    }
    form = found.study.settings["form"]
    if form != "robust":
        drawn["evidence"] = lambda size, text: over_widths(
            found, found.factors_by_width(), size, text
        )
    if form == "normal":
        drawn["path"] = lambda size, text: over_rows(found, found.path(), size, text)
    return drawn
