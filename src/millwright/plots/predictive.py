"""The predictive check as a figure, in several views."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal, get_args

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from millwright.draws.predictive import PredictiveCheck
from millwright.errors import ArgumentError
from millwright.plots.panels import Size, single_panel
from millwright.plots.replications import (
    calibration,
    counts,
    cumulative,
    densities,
    groups,
    histogram,
    residuals,
    rows,
)
from millwright.plots.style import INK, YELLOW, bare, finish, new_figure, styled, tint
from millwright.posterior.posterior import Posterior

__all__ = ["View", "predictive_check"]

View = Literal[
    "statistics",
    "histogram",
    "densities",
    "cumulative",
    "rows",
    "groups",
    "counts",
    "calibration",
    "residuals",
]
_MOST_STATISTICS = 7


def predictive_check(
    check: PredictiveCheck | Posterior,
    outcome: str | None = None,
    *,
    show: View = "statistics",
    along: str | None = None,
    axes: Axes | None = None,
    size: Size = (12.8, 7.0),
    text: bool = True,
) -> Figure:
    """Draw an outcome in the data against its replications.

    Parameters
    ----------
    check
        Result of `posterior.predictive_check()`, or a posterior.
    outcome
        Which outcome, if there are several.
    show
        `statistics`: histogram, and mean, sd, extremes and your own statistics. `histogram`,
        `densities`, `cumulative`: the distribution of all rows. `rows`: intervals row by row.
        `groups`: intervals of each group's mean. `counts`: hanging bars, for whole numbers.
        `calibration`: for outcomes of 0 and 1 and for labels, shares seen against shares
        expected. `residuals`: what is left unexplained.
    along
        Column of the data: the horizontal axis of `rows` and `residuals`, the groups of `groups`.
    axes
        Axes to draw into, without title and caption; not for `statistics`.
    size
        Width and height in inches.
    text
        Whether to write title and caption.

    Returns
    -------
    The figure.

    Raises
    ------
    ArgumentError
        For a view that does not suit the outcome, or an unknown outcome or column.
    """
    if isinstance(check, Posterior):
        check = check.predictive_check()
    if not isinstance(check, PredictiveCheck):
        raise ArgumentError(f"A predictive check is needed here, not {type(check).__name__}.")
    if show not in get_args(View):
        raise ArgumentError(f"`show` must be one of {', '.join(get_args(View))}, not {show!r}.")
    name = check.outcome(outcome)
    if show == "statistics":
        if axes is not None:
            raise ArgumentError("The statistics take several panels; choose another view.")
        return _statistics(check, name, size, text)
    draw, words = _VIEWS[show]
    with styled():
        figure, panel = single_panel(size, axes)
        draw(panel, check, name, along)
        copies = len(check.replicated[name])
        return finish(
            figure,
            f"Predictive check: {name}, observed against {copies} replications",
            words,
            text and axes is None,
            about=check,
        )


_Draw = Callable[[Axes, PredictiveCheck, str, str | None], None]
_VIEWS: dict[str, tuple[_Draw, str]] = {
    "histogram": (
        histogram,
        "Observed counts (line) should lie inside the band that 95 % of replicated data sets "
        "fill.",
    ),
    "densities": (
        densities,
        "The density of the observed values (line) should run inside the bands, which contain 50 "
        "and 95 % of the densities of replicated data sets.",
    ),
    "cumulative": (
        cumulative,
        "The share of rows at or below each value should run inside the bands, which contain 50 % "
        "and 95 % of replicated data sets. Where it leaves them, values are too common or rare.",
    ),
    "rows": (
        rows,
        "About half of the observed points should lie in the thick bars (50 %) and 95 in 100 in "
        "the thin ones (95 %). Open points lie outside the thin bar.",
    ),
    "groups": (
        groups,
        "Observed mean of each group (diamond) against the means of replications: thick bar 50 %, "
        "thin bar 95 %. Groups outside point to a predictor or a group effect that is missing.",
    ),
    "counts": (
        counts,
        "Bars hang from the expected curve (square roots of counts). A bar that ends above the "
        "zero line: the value is rarer in the data than expected; below: more frequent. The band "
        "at zero contains 95 % of replications.",
    ),
    "calibration": (
        calibration,
        "Rows sorted by expected probability into bins of equal size. Points on the diagonal: of "
        "the rows given 30 %, about 30 % came true. Bars: 95 % of replications.",
    ),
    "residuals": (
        residuals,
        "Observed minus expected, in standard deviations of the replications. Good: an even cloud "
        "around 0 with 95 in 100 points inside the dashed lines. A bend or a fan along the axis: "
        "the model misses a curve or a changing spread.",
    ),
}


def _statistics(check: PredictiveCheck, name: str, size: Size, text: bool) -> Figure:
    seen, copies = check.observed[name], check.replicated[name]
    with styled():
        figure = new_figure(size)
        usual = list(check.statistics(name).items())
        own = [pair for pair in usual if pair[0] in check.own]
        rest = [pair for pair in usual if pair[0] not in check.own]
        kept = [*rest[: max(1, _MOST_STATISTICS - len(own))], *own][:_MOST_STATISTICS]
        grid = figure.add_gridspec(len(kept), 2, width_ratios=[1.7, 1])
        histogram(figure.add_subplot(grid[:, 0]), check, name, None)
        for row, (statistic, function) in enumerate(kept):
            axes = figure.add_subplot(grid[row, 1])
            _statistic(axes, statistic, float(function(seen, axis=0)), function(copies, axis=1))
        return finish(
            figure,
            f"Predictive check: {name}, observed against {len(copies)} replications",
            "Left: observed counts should lie inside the band that 95 % of replicated data sets "
            "fill. Right: the observed value (line) should lie among the replicated ones (area); "
            "the share of replications above it should not be near 0 or 1.",
            text,
            about=check,
        )


def _even_bins(values: np.ndarray, most: int = 40) -> list[float]:
    """Bins of equal width; of values on a grid, each bin holds as many steps as the next."""
    levels = np.unique(values)
    step = np.diff(levels).min() if 1 < levels.size <= 200 else 0.0
    if not step or not np.allclose(np.diff(levels) / step % 1.0 % 1.0, 0.0, atol=1e-6):
        return list(np.histogram_bin_edges(values, bins=most))
    width = step * np.ceil((levels[-1] - levels[0]) / step / most)
    return list(np.arange(levels[0] - step / 2, levels[-1] + width, width))


def _statistic(axes: Axes, name: str, seen: float, copies: np.ndarray) -> None:
    low, high = np.quantile(copies, [0.0025, 0.9975])
    inside = copies[(copies >= low) & (copies <= high)]
    axes.hist(inside, bins=_even_bins(inside), color=tint(YELLOW, 0.6))
    axes.axvline(seen, color=INK, lw=2)
    share = np.mean(copies > seen) + 0.5 * np.mean(copies == seen)
    axes.set_title(f"{name}: {share:.2f} of replications above", fontsize=10)
    axes.xaxis.set_major_locator(MaxNLocator(5))
    bare(axes)
