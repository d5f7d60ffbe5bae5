"""Effects of a causal graph, by what was adjusted for."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from matplotlib.figure import Figure

from millwright.draws.intervals import interval, kind_words
from millwright.errors import ArgumentError
from millwright.plots.panels import Size
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
from millwright.studies.causal_estimates import EffectEstimates
from millwright.wording import visible

__all__ = ["causal_effects"]

_WIDE = 12.8


@dataclass(frozen=True)
class _Row:
    name: str
    values: np.ndarray
    adjusted: bool


def causal_effects(
    *estimates: EffectEstimates, size: Size | None = None, text: bool = True
) -> Figure:
    """Draw effects as intervals, every adjustment set beside the estimate without any.

    Parameters
    ----------
    estimates
        Results of `graph.estimate(...)`, of one or several effects; a panel each.
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
        For what is no such result.
    """
    for one in estimates:
        if not isinstance(one, EffectEstimates):
            raise ArgumentError(f"Give results of graph.estimate(), not {type(one).__name__}.")
    if not estimates:
        raise ArgumentError("Give one result of graph.estimate(), or several.")
    every = [_rows(one) for one in estimates]
    counts = [len(rows) for rows in every]
    with styled():
        high = 1.6 + 0.8 * len(every) + 0.42 * sum(counts)
        figure = new_figure(size, (_WIDE, max(3.4, high)))
        places = figure.subplots(len(every), 1, squeeze=False, height_ratios=counts)[:, 0]
        for axes, one, rows in zip(places, estimates, every, strict=True):
            axes.axvline(0, color=GREY, ls="--", lw=1.2, zorder=1)
            first = next(iter(one.findings.values()))
            for place, row in enumerate(rows):
                colour = BLUE if row.adjusted else tint(INK, 0.45)
                low, top = interval(row.values, first.level, first.kind)
                inner = np.quantile(row.values, [0.25, 0.75])
                axes.plot([low, top], [place, place], color=colour, lw=1.6)
                axes.plot(inner, [place, place], color=colour, lw=4.5, solid_capstyle="butt")
                face = "white" if row.adjusted else colour
                axes.plot(np.median(row.values), place, "o", color=face, mec=INK, ms=7)
            axes.set_yticks(range(len(rows)), [wrapped(visible(row.name), 44) for row in rows])
            axes.set_ylim(len(rows) - 0.4, -0.6)
            axes.set_title(_heading(one), fontsize=11, loc="left")
            light_grid(axes, "x")
        shown = next(iter(estimates[0].findings.values()))
        bad = next((it for each in estimates for it in each.every if not it.verdict.good), None)
        return finish(
            figure,
            "Effects by what was adjusted for",
            f"Dot: median; thin bar: {kind_words(shown.kind, shown.level)}; thick bar: 50 %. "
            "Grey: without adjustment, which is not the effect. Sets that identify it should "
            "agree where the graph is right.",
            text,
            about=bad,
        )


def _heading(one: EffectEstimates) -> str:
    unit = "sd more" if one.standardise else "more"
    link = next(iter(one.findings.values())).study.parts["regression"].link
    on = "" if link == "identity" else f", on the {link} scale"
    return visible(f"{one.effect} effect of {one.exposure} on {one.outcome}, for 1 {unit}{on}")


def _rows(one: EffectEstimates) -> list[_Row]:
    rows = []
    for words, column, values in one.draws():
        alone = words is None
        name = "no adjustment" if alone else f"adjusted for {str(words).replace('`', '')}"
        if column.replace("`", "") != one.exposure:
            name = f"{column}, {name}"
        rows.append(_Row(name, values.reshape(-1), not alone))
    return rows
