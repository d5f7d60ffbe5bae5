"""Credible intervals, each definition on an axis of its own."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.draws.intervals import IntervalKind, interval, kind_words
from millwright.errors import ArgumentError
from millwright.plots.choose import chosen
from millwright.plots.style import INK, RIVER, finish, light_grid, new_figure, styled
from millwright.posterior import Posterior

__all__ = ["intervals"]

_MOST_ROWS = 60


def intervals(
    posterior: Posterior,
    names: str | Sequence[str] | None = None,
    *,
    level: float = 0.95,
    kind: IntervalKind = "central",
    size: tuple[float, float] | None = None,
    text: bool = True,
) -> Figure:
    """Draw a credible interval for each quantity; every definition has its own axis.

    Parameters
    ----------
    names
        Definitions to show; at most 60 single numbers in 12 definitions.
    level, kind
        Level and kind of the thin bar; the thick bar is the 50 % interval of the same kind.
    """
    single = chosen(posterior, names, most=_MOST_ROWS)
    groups: dict[str, dict[str, np.ndarray]] = {}
    for name, value in single.items():
        groups.setdefault(name.split("[")[0], {})[name] = value.reshape(-1)
    if len(groups) > 12:
        raise ArgumentError("At most 12 definitions fit into one figure; choose some by name.")
    heights = [len(group) + 1.1 for group in groups.values()]
    with styled():
        height = min(8.0, 1.4 + 0.36 * sum(heights) + 0.1 * len(groups))
        figure = new_figure(*(size or (12.8, height)))
        panels = figure.subplots(len(groups), 1, squeeze=False, height_ratios=heights)[:, 0]
        for axes, group in zip(panels, groups.values(), strict=True):
            _rows(axes, group, level, kind)
        return finish(
            figure,
            f"Posterior: {kind_words(kind, level)}s",
            f"Dot: median. Thick bar: 50 % interval. Thin bar: {kind_words(kind, level)}. Each "
            "definition has its own scale; a dotted line marks zero where it is in view.",
            text,
        )


def _rows(axes: Axes, group: dict[str, np.ndarray], level: float, kind: IntervalKind) -> None:
    for row, value in enumerate(group.values()):
        low, high = interval(value, level, kind)
        inner_low, inner_high = interval(value, 0.5, kind)
        axes.plot([low, high], [row, row], color=RIVER, lw=1.6, solid_capstyle="butt", zorder=3)
        axes.plot(
            [inner_low, inner_high], [row, row], color=RIVER, lw=5, solid_capstyle="butt", zorder=3
        )
        axes.plot(np.median(value), row, "o", color="white", mec=INK, ms=6, zorder=4)
    axes.set_yticks(range(len(group)), list(group))
    axes.set_ylim(len(group) - 0.4, -0.6)
    axes.margins(x=0.06)
    left, right = axes.get_xlim()
    if left < 0 < right:
        axes.axvline(0, color=INK, ls=":", lw=1, zorder=1)
    light_grid(axes, "x")
    axes.tick_params(axis="y", length=0)
    axes.spines["left"].set_visible(False)
