"""The predictive check as a figure."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.draws.predictive import PredictiveCheck
from millwright.errors import ArgumentError
from millwright.plots.style import INK, WHEAT, finish, new_figure, styled
from millwright.posterior import Posterior

__all__ = ["predictive_check"]


def predictive_check(
    check: PredictiveCheck | Posterior,
    outcome: str | None = None,
    *,
    size: tuple[float, float] = (12.8, 7.0),
    text: bool = True,
) -> Figure:
    """Draw the distribution of an outcome in the data and in replications, and five statistics.

    Parameters
    ----------
    check
        Result of `posterior.predictive_check()`, or a posterior.
    outcome
        Which outcome, if there are several.
    """
    if isinstance(check, Posterior):
        check = check.predictive_check()
    if not isinstance(check, PredictiveCheck):
        raise ArgumentError(f"A predictive check is needed here, not {type(check).__name__}.")
    names = list(check.observed)
    name = outcome or names[0]
    if name not in names:
        raise ArgumentError(f"There is no outcome `{name}`: {', '.join(names)}.")
    seen, copies = check.observed[name], check.replicated[name]
    with styled():
        figure = new_figure(*size)
        statistics = dict(list(check.statistics(name).items())[:6])
        grid = figure.add_gridspec(len(statistics), 2, width_ratios=[1.7, 1])
        axes = figure.add_subplot(grid[:, 0])
        _histogram(axes, seen, copies, name)
        if name in check.labels:
            axes.set_xticks(range(len(check.labels[name])), map(str, check.labels[name]))
        for row, (statistic, function) in enumerate(statistics.items()):
            axes = figure.add_subplot(grid[row, 1])
            _statistic(axes, statistic, function(seen, axis=0), function(copies, axis=1))
        return finish(
            figure,
            f"Predictive check: {name}, observed against {len(copies)} replications",
            "Left: observed counts should lie inside the band that 95 % of replicated data sets "
            "fill. Right: the observed value (line) should lie among the replicated ones (area); "
            "the share of replications above it should not be near 0 or 1.",
            text,
        )


def _histogram(axes: Axes, seen: np.ndarray, copies: np.ndarray, name: str) -> None:
    edges = _edges(seen, copies)
    counts = np.stack([np.histogram(copy, edges)[0] for copy in copies])
    low, high = np.quantile(counts, [0.025, 0.975], axis=0)
    axes.fill_between(
        edges,
        np.append(low, low[-1]),
        np.append(high, high[-1]),
        step="post",
        color=WHEAT,
        alpha=0.35,
        lw=0,
        label="replications, 95 %",
    )
    middle = np.median(counts, axis=0)
    axes.stairs(middle, edges, color=WHEAT, lw=1.5, label="replications, median")
    axes.stairs(np.histogram(seen, edges)[0], edges, color=INK, lw=2, label="observed")
    axes.set_xlabel(name)
    axes.set_ylabel("rows")
    axes.set_ylim(bottom=0)
    axes.legend(loc="lower left", bbox_to_anchor=(0, 1), ncols=3, fontsize=10)


def _edges(seen: np.ndarray, copies: np.ndarray) -> np.ndarray:
    """Bins that hold the data and the bulk of the replications; whole numbers stay apart."""
    low = min(seen.min(), np.quantile(copies, 0.005))
    high = max(seen.max(), np.quantile(copies, 0.995))
    if np.all(seen == np.floor(seen)) and np.all(copies == np.floor(copies)) and high - low <= 60:
        return np.arange(low - 0.5, high + 1.0)
    bins = int(np.clip(2 * np.cbrt(seen.size) + 2, 6, 40))
    return np.linspace(low, high, bins + 1)


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
    axes.hist(inside, bins=_even_bins(inside), color=WHEAT, alpha=0.45)
    axes.axvline(seen, color=INK, lw=2)
    share = np.mean(copies > seen) + 0.5 * np.mean(copies == seen)
    axes.set_title(f"{name}: {share:.2f} of replications above", fontsize=10)
    axes.set_yticks([])
    axes.spines["left"].set_visible(False)
