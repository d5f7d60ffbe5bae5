"""The figure of a study of proportions."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from millwright.draws.intervals import interval, kind_words
from millwright.draws.numbers import range_text
from millwright.draws.region import density
from millwright.plots.pair_intervals import pair_intervals
from millwright.plots.panels import Size
from millwright.plots.posterior_density import REGION_CAPTION, density_panel
from millwright.plots.style import (
    BLUE,
    GREY,
    INK,
    finish,
    light_grid,
    new_figure,
    styled,
    tint,
    wrapped,
)
from millwright.studies.proportion_findings import PairFindings, ProportionFindings
from millwright.wording import visible

__all__ = ["figures"]


def proportions_figure(
    found: ProportionFindings | PairFindings, size: Size | None, text: bool
) -> Figure:
    """Draw the shares with the rows they come from, and what is asked of them."""
    with styled():
        figure = new_figure(size, (12.8, 7.0))
        left, right = figure.subfigures(1, 2, squeeze=False, width_ratios=(1.35, 1))[0]
        _shares(left.subplots(), found)
        _asked(right, found)
        words = kind_words(found.kind, found.level)
        rows = (
            ""
            if isinstance(found, PairFindings)
            else " Circles: shares in single rows, larger with more trials."
        )
        return finish(
            figure,
            found.question,
            f"Left: posterior of each share, shaded: {words}; line inside: median.{rows} Right: "
            f"what is asked of them.{REGION_CAPTION * bool(found.decisions)}",
            text,
            about=found,
        )


def _rows_of(
    found: ProportionFindings | PairFindings,
) -> list[tuple[str, np.ndarray, np.ndarray, np.ndarray]]:
    """Return name, draws, and rows (successes, trials) of each share."""
    draws = found.posterior.draws
    none = np.zeros(0)
    if isinstance(found, PairFindings):
        first, second = found.study.counts.labels
        names = {first: "first_share", second: "second_share"}
        return [(one, draws.get(name).reshape(-1), none, none) for one, name in names.items()]
    counts = found.study.counts
    share = draws.get("share")
    result = []
    for at, label in enumerate(counts.groups):
        values = share.reshape(-1) if label is None else share[..., at].reshape(-1)
        won, tried = counts.counts(label) if counts.trials is not None else (none, none)
        result.append((label or "share", values, won, tried))
    return result


def _shares(axes: Axes, found: ProportionFindings | PairFindings) -> None:
    groups = _rows_of(found)
    most = max(float(tried.max(initial=1.0)) for *_, tried in groups)
    seen = [0.0]
    generator = np.random.default_rng(1)
    for at, (_, values, won, tried) in enumerate(groups):
        grid, height = density(values)
        low, high = (float(end) for end in interval(values, found.level, found.kind))
        up = 0.62 * height / height.max()
        inside = np.linspace(low, high, 200)
        axes.fill_between(
            inside, at, at - np.interp(inside, grid, up), color=tint(BLUE, 0.45), lw=0, zorder=2
        )
        axes.plot(grid, at - up, color=BLUE, lw=1.6, zorder=3)
        middle = float(np.median(values))
        axes.plot(
            [middle] * 2, [at, at - np.interp(middle, grid, up)], color=INK, lw=1.4, zorder=3
        )
        real = tried > 0
        if real.any():
            shares = won[real] / tried[real]
            axes.scatter(
                shares,
                at + 0.16 + generator.uniform(-0.06, 0.06, int(real.sum())),
                s=20 + 110 * tried[real] / most,
                facecolor="none",
                edgecolor=INK,
                lw=1.1,
                zorder=3,
            )
            seen.append(float(shares.max()))
        seen.append(float(np.quantile(values, 0.999)))
    against = found.study.settings["against"]
    if against is not None:
        axes.axvline(against, color=GREY, ls="--", lw=1.4)
        seen.append(against)
    axes.set_yticks(range(len(groups)), [wrapped(visible(name), 18) for name, *_ in groups])
    axes.set_ylim(len(groups) - 0.6, -0.85)
    axes.set_xlim(-0.02 * max(seen), min(1.02, 1.08 * max(seen)))
    axes.set_xlabel("share of successes")
    light_grid(axes, "x")


def _asked(room: Figure, found: ProportionFindings | PairFindings) -> None:
    """Draw the difference and its ratios, or all pairs."""
    draws, settings = found.posterior.draws, found.study.settings
    region = None if settings["rope"] is None else tuple(settings["rope"])
    known = set(draws.names())
    counts = found.study.counts
    if "difference" in known:
        one, other = counts.labels
        names = [name for name in ("difference", "odds_ratio") if name in known]
        panels = room.subplots(len(names), 1, squeeze=False)[:, 0]
        for axes, name in zip(panels, names, strict=True):
            values = draws.get(name).reshape(-1)
            if name == "odds_ratio":
                _ratio(axes, values, found, f"odds ratio, {other} over {one}")
                continue
            density_panel(axes, values, found.level, found.kind, region)
            axes.set_title(wrapped(visible(f"difference: {other} - {one}"), 44))
            axes.xaxis.set_major_locator(MaxNLocator(5))
    elif len(counts.labels) > 2:
        pair_intervals(
            room.subplots(),
            found.differences(),
            found.level,
            found.kind,
            region,
            "differences of shares",
        )
    else:
        axes = room.subplots()
        against = settings["against"]
        values = draws.get("share").reshape(-1) - (against or 0.0)
        density_panel(axes, values, found.level, found.kind, region)
        axes.set_title("share" if against is None else f"share - {against:g}")


def _ratio(
    axes: Axes, values: np.ndarray, found: ProportionFindings | PairFindings, title: str
) -> None:
    """Draw a ratio on a logarithmic axis."""
    # Central, which is the same on either scale.
    density_panel(axes, np.log(values), found.level, "central", None)
    low, high = np.exp(np.quantile(np.log(values), [0.001, 0.999]))
    marks = [
        m for m in (0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 50, 100) if low <= m <= high
    ]
    if len(marks) > 1:
        axes.set_xticks(np.log(marks), [f"{m:g}" for m in marks])
    else:
        ticks = np.linspace(np.log(low), np.log(high), 4)
        axes.set_xticks(ticks, [f"{m:.3g}" for m in np.exp(ticks)])
    axes.axvline(0, color=GREY, ls="--", lw=1.2)
    axes.set_xlim(np.log(low), np.log(high))
    ends = interval(values, found.level, "central")
    axes.set_xlabel(
        f"{kind_words('central', found.level)} "
        f"{range_text(float(ends[0]), float(ends[1]), float(values.std(ddof=1)))}; "
        "dashed: 1, equal odds",
        fontsize=9.5,
    )
    axes.set_title(wrapped(visible(title), 44))


def figures(
    found: ProportionFindings | PairFindings,
) -> dict[str, Callable[[Size | None, bool], Figure]]:
    """Return what draws each figure of the study."""
    return {"shares": lambda size, text: proportions_figure(found, size, text)}
