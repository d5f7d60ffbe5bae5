"""The figures of a study of groups."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator
from scipy import stats

from millwright.draws.intervals import interval, kind_words
from millwright.draws.numbers import range_text
from millwright.plots.pair_intervals import pair_intervals
from millwright.plots.panels import Size
from millwright.plots.posterior_density import REGION_CAPTION, density_panel
from millwright.plots.scatter_matrix import scatter_matrix
from millwright.plots.study_evidence import over_widths
from millwright.plots.style import (
    BLUE,
    GREY,
    INK,
    PURPLE,
    finish,
    light_grid,
    new_figure,
    styled,
    tint,
    wrapped,
)
from millwright.studies.group_findings import GroupFindings
from millwright.wording import visible

__all__ = ["figures"]

_CURVES = 25
_NORMAL_DF = (1, 2, 5, 10, 30, 100)


def groups_figure(found: GroupFindings, size: Size | None, text: bool) -> Figure:
    """Draw all data with fitted curves, and below a panel for each question."""
    with styled():
        figure = new_figure(size, (12.8, 8.0))
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
            f"shaded: {words}; line inside: median.{REGION_CAPTION * bool(found.decisions)}",
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
    chosen = np.linspace(0, int(np.prod(draws.shape)) - 1, _CURVES).astype(int)
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
        panels.append(
            lambda axes: pair_intervals(
                axes,
                found.asked("difference"),
                found.level,
                found.kind,
                settings["rope"],
                "differences of location",
            )
        )
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
    # Central, which is the same on either scale.
    density_panel(axes, values, found.level, "central", None)
    axes.set_xticks(np.log10(_NORMAL_DF), [str(df) for df in _NORMAL_DF])
    axes.set_xlim(-0.05, max(2.05, float(values.max())))
    df = 10**values
    low, high = (float(end) for end in interval(df, found.level, "central"))
    ends = range_text(low, high, float(df.std(ddof=1)))
    axes.set_xlabel(f"{kind_words('central', found.level)} {ends}", fontsize=9.5)
    axes.set_title("df: under 10 heavy tails, 30 on normal")


def figures(found: GroupFindings) -> dict[str, Callable[[Size | None, bool], Figure]]:
    """Return what draws each figure of the study, the main one first."""
    drawn: dict[str, Callable[[Size | None, bool], Figure]] = {
        "groups": lambda size, text: groups_figure(found, size, text),
        "pairs": lambda size, text: _pairs(found, size, text),
    }
    if "no effect" in found.study.models:
        drawn["evidence"] = lambda size, text: over_widths(
            found, found.effect_factors_by_width(), size, text
        )
    return drawn


def _pairs(found: GroupFindings, size: Size | None, text: bool) -> Figure:
    """Draw the posterior of locations, scales and normality, pair by pair."""
    wanted = ("location", "scale", "normality")
    names = [n for n in found.posterior.draws.single() if n.split("[")[0] in wanted][:6]
    return scatter_matrix(found.posterior, names, text=text, **({"size": size} if size else {}))
