"""The single views of a predictive check, each drawn into given axes."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes

from millwright.draws.predictive import PredictiveCheck
from millwright.draws.region import density_on
from millwright.errors import ArgumentError, nearest
from millwright.plots.bands import bands
from millwright.plots.style import GREY, INK, RED, YELLOW, light_grid, tint
from millwright.wording import setting

__all__ = [
    "calibration",
    "counts",
    "cumulative",
    "densities",
    "groups",
    "histogram",
    "residuals",
    "rows",
]

_COPIES = "replications"
_MOST_ROWS = 200
_MOST_GROUPS = 60
_SHOWN_DENSITIES = 200
_LONGEST_LABELS = 12


def histogram(axes: Axes, check: PredictiveCheck, name: str, along: str | None) -> None:
    """Counts of rows by bins of the outcome."""
    seen, copies = check.observed[name], check.replicated[name]
    edges = _edges(seen, copies)
    found = np.stack([np.histogram(copy, edges)[0] for copy in copies])
    low, high = np.quantile(found, [0.025, 0.975], axis=0)
    axes.fill_between(
        edges,
        np.append(low, low[-1]),
        np.append(high, high[-1]),
        step="post",
        color=tint(YELLOW, 0.35),
        lw=0,
        label="replications, 95 %",
    )
    middle = np.median(found, axis=0)
    axes.stairs(middle, edges, color=YELLOW, lw=1.5, label="replications, median")
    axes.stairs(np.histogram(seen, edges)[0], edges, color=INK, lw=2, label="observed")
    axes.set_xlabel(check.with_unit(name))
    axes.set_ylabel("number of rows")
    axes.set_ylim(bottom=0)
    _label_ticks(axes, check, name)
    _key(axes)


def densities(axes: Axes, check: PredictiveCheck, name: str, along: str | None) -> None:
    """Density of all rows, observed and in replications."""
    _refuse_labels(check, name, "densities")
    seen, copies = check.observed[name], check.replicated[name]
    low = min(seen.min(), np.quantile(copies, 0.002))
    high = max(seen.max(), np.quantile(copies, 0.998))
    grid = np.linspace(low - 0.1 * (high - low), high + 0.1 * (high - low), 150)
    step = max(1, len(copies) // _SHOWN_DENSITIES)
    bands(
        axes, grid, np.stack([density_on(grid, copy) for copy in copies[::step]]), YELLOW, _COPIES
    )
    axes.plot(grid, density_on(grid, seen), color=INK, lw=2, label="observed")
    axes.set_xlabel(check.with_unit(name))
    axes.set_ylabel("density")
    axes.set_ylim(bottom=0)
    _key(axes)


def cumulative(axes: Axes, check: PredictiveCheck, name: str, along: str | None) -> None:
    """Share of rows at or below each value."""
    _refuse_labels(check, name, "cumulative curves")
    seen, copies = np.sort(check.observed[name]), np.sort(check.replicated[name], axis=1)
    low = min(seen[0], np.quantile(copies, 0.002))
    high = max(seen[-1], np.quantile(copies, 0.998))
    grid = np.linspace(low, high, 300)
    at = np.stack([np.searchsorted(copy, grid, side="right") for copy in copies]) / seen.size
    bands(axes, grid, at, YELLOW, _COPIES)
    share = np.searchsorted(seen, grid, side="right") / seen.size
    axes.plot(grid, share, color=INK, lw=2, drawstyle="steps-post", label="observed")
    axes.set_xlabel(check.with_unit(name))
    axes.set_ylabel("share of rows at or below")
    axes.set_ylim(0, 1.02)
    light_grid(axes, "both")
    _key(axes)


def rows(axes: Axes, check: PredictiveCheck, name: str, along: str | None) -> None:
    """Predictive intervals row by row, with the observed values."""
    _refuse_labels(check, name, "intervals by row")
    seen, copies = check.observed[name], check.replicated[name]
    if seen.size > _MOST_ROWS:
        raise ArgumentError(
            f"{seen.size} rows do not fit into one figure; at most {_MOST_ROWS} do. Use "
            f"{setting('show', 'groups')} or {setting('show', 'residuals')}."
        )
    place, ticks = _places(check, name, along)
    for level, width in ((0.95, 1.6), (0.5, 5)):
        low, high = np.quantile(copies, [(1 - level) / 2, (1 + level) / 2], axis=0)
        label = f"replications, {100 * level:.0f} %"
        axes.vlines(place, low, high, color=YELLOW, lw=width, label=label)
    out = (seen < np.quantile(copies, 0.025, 0)) | (seen > np.quantile(copies, 0.975, 0))
    axes.plot(place[~out], seen[~out], "o", color=INK, ms=5, label="observed")
    axes.plot(place[out], seen[out], "o", mec=INK, mfc="white", ms=7, label="observed, outside")
    _along_axis(axes, along or "row", ticks)
    axes.set_ylabel(check.with_unit(name))
    _key(axes)


def groups(axes: Axes, check: PredictiveCheck, name: str, along: str | None) -> None:
    """Means of groups, observed and in replications."""
    _refuse_labels(check, name, "means of groups")
    if along is None:
        raise ArgumentError("Say by which column: along='stone'.")
    values = _column(check, name, along)
    labels = sorted(set(values.tolist()), key=lambda v: (isinstance(v, str), v))
    if len(labels) > _MOST_GROUPS:
        raise ArgumentError(f"`{along}` has {len(labels)} values; at most {_MOST_GROUPS} fit.")
    seen, copies = check.observed[name], check.replicated[name]
    for at, label in enumerate(labels):
        inside = values == label
        means = copies[:, inside].mean(axis=1)
        for level, width in ((0.95, 1.6), (0.5, 5)):
            low, high = np.quantile(means, [(1 - level) / 2, (1 + level) / 2])
            words = f"replications, {100 * level:.0f} %" if at == 0 else ""
            axes.vlines(at, low, high, color=YELLOW, lw=width, label=words)
        words = "observed" if at == 0 else ""
        axes.plot(at, seen[inside].mean(), "D", color=INK, ms=6, label=words)
    sizes = [int(np.sum(values == label)) for label in labels]
    ticks = [f"{label} ({n})" for label, n in zip(labels, sizes, strict=True)]
    _along_axis(axes, along, ticks)
    axes.set_xlabel(f"{along} (number of rows)")
    axes.set_ylabel(f"mean of {name}")
    light_grid(axes, "y")
    _key(axes)


def counts(axes: Axes, check: PredictiveCheck, name: str, along: str | None) -> None:
    """Hanging bars (Tukey 1977): square roots of counts, hung from what is expected."""
    seen, copies = check.observed[name], check.replicated[name]
    if name in check.labels or not (seen == np.floor(seen)).all():
        raise ArgumentError(
            f"`{name}` is not a count; use {setting('show', 'histogram')} or "
            f"{setting('show', 'cumulative')}."
        )
    top = int(max(seen.max(), np.quantile(copies, 0.995)))
    low = int(min(seen.min(), np.quantile(copies, 0.005)))
    if top - low > 120:
        raise ArgumentError(
            f"`{name}` spreads over {top - low} values; use {setting('show', 'cumulative')}."
        )
    values = np.arange(low, top + 1)
    edges = np.append(values, top + 1) - 0.5
    again = np.stack([np.histogram(copy, edges)[0] for copy in copies])
    expected = np.sqrt(again.mean(axis=0))
    observed = np.sqrt(np.histogram(seen, edges)[0])
    gaps = np.quantile(expected - np.sqrt(again), [0.025, 0.975], axis=0)
    axes.fill_between(
        values,
        gaps[0],
        gaps[1],
        color=tint(YELLOW, 0.35),
        lw=0,
        step="mid",
        label="replications, 95 %",
    )
    axes.bar(
        values,
        observed,
        bottom=expected - observed,
        width=0.75,
        color=INK,
        alpha=0.55,
        label="observed",
    )
    axes.plot(values, expected, "o-", color=YELLOW, lw=2, ms=4, label="expected")
    axes.axhline(0, color=INK, lw=1)
    axes.set_xlabel(check.with_unit(name))
    axes.set_ylabel("square root of the number of rows")
    _key(axes)


def calibration(axes: Axes, check: PredictiveCheck, name: str, along: str | None) -> None:
    """Shares observed against probabilities expected, for 0 and 1 or for labels."""
    seen, copies = check.observed[name], check.replicated[name]
    marks = range(len(check.labels[name])) if name in check.labels else (1,)
    if name not in check.labels and not set(np.unique(seen)) <= {0.0, 1.0}:
        raise ArgumentError(
            f"`{name}` is neither 0 and 1 nor labels; use {setting('show', 'cumulative')}."
        )
    # Of ordered or other labels, all but the first say everything.
    for number, at in enumerate(list(marks)[-6:] if len(marks) > 1 else marks):
        truth, again = seen == at, copies == at
        expected = again.mean(axis=0)
        parts = np.array_split(np.argsort(expected, kind="stable"), _bins(seen.size))
        bins = [part for part in parts if part.size]
        x = np.array([expected[one].mean() for one in bins])
        y = np.array([truth[one].mean() for one in bins])
        low, high = np.quantile([again[:, one].mean(axis=1) for one in bins], [0.025, 0.975], 1)
        shift = 0.004 * number
        axes.vlines(x + shift, low, high, color=YELLOW, lw=3)
        label = f"{check.labels[name][at]}" if name in check.labels else "observed"
        axes.plot(x + shift, y, "osD^vP"[number % 6], color=INK, ms=6, label=label, alpha=0.8)
    axes.plot([0, 1], [0, 1], color=GREY, ls="--", lw=1.2)
    axes.set_xlabel("probability expected")
    axes.set_ylabel("share observed")
    light_grid(axes, "both")
    _key(axes)


def residuals(axes: Axes, check: PredictiveCheck, name: str, along: str | None) -> None:
    """Residuals in standard deviations, along the expected value or a column."""
    table = check.residuals(name)
    scaled = table["residual, sds"].to_numpy()
    ticks: list[str] | None = None
    if along is None:
        place = table["expected"].to_numpy()
    else:
        place, ticks = _places(check, name, along)
    out = np.abs(scaled) > 2
    axes.plot(place[~out], scaled[~out], "o", color=INK, ms=4, alpha=0.7)
    axes.plot(place[out], scaled[out], "o", mec=RED, mfc="white", ms=6)
    axes.axhline(0, color=INK, lw=1)
    for edge in (-2, 2):
        axes.axhline(edge, color=GREY, ls="--", lw=1.2)
    _along_axis(axes, along or f"expected {name}", ticks)
    axes.set_ylabel("residual, standard deviations")


def _bins(size: int) -> int:
    return int(np.clip(size // 15, 2, 10))


def _key(axes: Axes) -> None:
    axes.legend(loc="lower left", bbox_to_anchor=(0, 1), ncols=6, fontsize=10)


def _refuse_labels(check: PredictiveCheck, name: str, what: str) -> None:
    if name in check.labels:
        raise ArgumentError(
            f"`{name}` is an outcome of labels, which have no {what}; use "
            f"{setting('show', 'histogram')} or "
            "'calibration'."
        )


def _label_ticks(axes: Axes, check: PredictiveCheck, name: str) -> None:
    if name in check.labels:
        axes.set_xticks(range(len(check.labels[name])), list(map(str, check.labels[name])))


def _column(check: PredictiveCheck, name: str, along: str) -> np.ndarray:
    known = check.columns.get(name, {})
    if along not in known:
        have = ", ".join(known) or "none"
        raise ArgumentError(
            f"`{along}` is not a column beside `{name}`.{nearest(along, known)} Columns: {have}."
        )
    return np.asarray(known[along])


def _places(
    check: PredictiveCheck, name: str, along: str | None
) -> tuple[np.ndarray, list[str] | None]:
    """Return horizontal places of the rows, and labels where the places are labels."""
    if along is None:
        return np.arange(1, check.observed[name].size + 1.0), None
    values = _column(check, name, along)
    if values.dtype.kind == "f":
        return values, None
    labels, codes = np.unique(values.astype(str), return_inverse=True)
    beside = np.zeros(len(codes))
    for code in range(len(labels)):
        mine = np.flatnonzero(codes == code)
        beside[mine] = np.linspace(-0.3, 0.3, len(mine)) if len(mine) > 1 else 0.0
    return codes + beside, list(labels)


def _along_axis(axes: Axes, heading: str, ticks: list[str] | None) -> None:
    axes.set_xlabel(heading)
    if ticks is not None:
        turned = sum(map(len, ticks)) > 90 or max(map(len, ticks)) > _LONGEST_LABELS
        axes.set_xticks(range(len(ticks)), ticks, rotation=60 if turned else 0)
        if turned:
            for label in axes.get_xticklabels():
                label.set_horizontalalignment("right")


def _edges(seen: np.ndarray, copies: np.ndarray) -> np.ndarray:
    """Bins that hold the data and the bulk of the replications; whole numbers stay apart."""
    low = min(seen.min(), np.quantile(copies, 0.005))
    high = max(seen.max(), np.quantile(copies, 0.995))
    if np.all(seen == np.floor(seen)) and np.all(copies == np.floor(copies)) and high - low <= 60:
        return np.arange(low - 0.5, high + 1.0)
    bins = int(np.clip(2 * np.cbrt(seen.size) + 2, 6, 40))
    return np.linspace(low, high, bins + 1)
