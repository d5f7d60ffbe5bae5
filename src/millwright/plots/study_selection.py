"""The figures of a variable selection: what is in, how large it is, which subsets, how many."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from millwright.draws.intervals import kind_words
from millwright.draws.numbers import chance_text
from millwright.plots.panels import Size
from millwright.plots.style import (
    BLUE,
    GREY,
    INK,
    PURPLE,
    RED,
    YELLOW,
    finish,
    light_grid,
    new_figure,
    styled,
    tint,
)
from millwright.studies.selection_findings import SelectionFindings
from millwright.studies.sparse_findings import SparseFindings
from millwright.wording import visible

__all__ = ["figures"]

Selected = SelectionFindings | SparseFindings

_MOST_ROWS = 40
_MOST_PANELS = 12
_MOST_MODELS = 25
_SHOWN = 0.995
_WIDE = 12.8


def inclusion_figure(found: Selected, size: Size | None, text: bool) -> Figure:
    """Draw the probability of each candidate with its prior and, of a walk, its error."""
    table = found.inclusion().head(_MOST_ROWS)
    rows = np.arange(len(table))
    with styled():
        figure = new_figure(size, (_WIDE, 2.0 + 0.27 * len(table)))
        axes = figure.subplots()
        values = table["posterior probability"].to_numpy()
        axes.barh(rows, values, 0.62, color=BLUE, label="after the data")
        axes.plot(
            table["prior probability"], rows, "|", color=INK, ms=11, mew=2, label="before the data"
        )
        if "by visits" in table:
            axes.errorbar(
                table["by visits"],
                rows,
                xerr=2 * table["its error"],
                fmt="o",
                color=YELLOW,
                mec=INK,
                mew=0.6,
                ms=5,
                lw=1.6,
                label="share of steps, with 2 standard errors",
            )
        elif "its error" in table:
            low = np.minimum(2 * table["its error"], values)
            axes.errorbar(
                values,
                rows,
                xerr=[low, 2 * table["its error"]],
                fmt="none",
                ecolor=YELLOW,
                lw=2.2,
                label="2 standard errors of the draws",
            )
        axes.set_yticks(rows, [visible(str(name)) for name in table.index])
        axes.set_ylim(len(table) - 0.4, -0.6)
        axes.set_xlim(0, 1.02)
        axes.set_xlabel(_inclusion_label(found))
        light_grid(axes, "x")
        figure.legend(loc="outside right upper", fontsize=10)
        every = len(found.subsets.terms)
        cut = f" The {len(table)} most probable of {every}." * (len(table) < every)
        return finish(
            figure,
            found.question,
            f"Bars: {_weighed_words(found)}. A bar beyond its mark: the data speak for "
            f"the candidate; short of it: against.{cut}",
            text,
            about=found,
        )


def _inclusion_label(found: Selected) -> str:
    if isinstance(found, SparseFindings):
        return f"probability of a slope beyond {found.study.region:g}, for one sd"
    return "probability of being in the model"


def _weighed_words(found: Selected) -> str:
    """Say where the probabilities of subsets come from."""
    if isinstance(found, SparseFindings):
        return f"by the draws, a slope beyond {found.study.region:g} for one sd being in"
    return "by the weights of all subsets met"


def coefficients_figure(found: SelectionFindings, size: Size | None, text: bool) -> Figure:
    """Draw the density of each coefficient where it is in, and the chance that it is out."""
    names = [
        name
        for name in found.coefficients(count=2 * _MOST_PANELS).index
        if found.densities[name].known
    ][:_MOST_PANELS]
    columns = min(4, max(len(names), 1))
    rows = max(1, -(-len(names) // columns))
    with styled():
        figure = new_figure(size, (_WIDE, 1.2 + 2.3 * rows))
        places = figure.subplots(rows, columns, squeeze=False)
        for at, axes in enumerate(places.flat):
            if at < len(names):
                _coefficient(axes, found, names[at])
            else:
                axes.set_visible(False)
        return finish(
            figure,
            f"{found.question} Coefficients",
            "Bar on the left: chance of exactly 0, up to the whole height for 1. Curve: density "
            "where the candidate is in, as high as its probability. Dark: "
            f"{kind_words(found.kind, found.level)}. Change of the outcome for 1 more.",
            text,
            about=found,
        )


def _coefficient(axes: Axes, found: SelectionFindings, name: str) -> None:
    density = found.densities[name]
    curve = density.where_in
    ends = curve.quantile(np.array([1 - _SHOWN, _SHOWN]))
    keep = (curve.grid >= ends[0]) & (curve.grid <= ends[1])
    x, y = curve.grid[keep], curve.densities[keep]
    height = density.inside * y / y.max()
    colour = BLUE if density.above(0.0) >= 0.5 else RED
    axes.fill_between(x, height, color=tint(colour, 0.3), lw=0)
    low, high = density.interval(found.level, found.kind)
    inner = (x >= low) & (x <= high)
    axes.fill_between(x[inner], height[inner], color=tint(colour, 0.7), lw=0)
    # The chance of 0 stands in a margin of its own, so that it hides no part of the curve.
    margin = axes.inset_axes((0.0, 0.0, 0.07, 1.0))
    margin.bar([0], [1 - density.inside], 1.0, color=INK)
    margin.set_ylim(0, 1.08)
    margin.set_xlim(-0.5, 0.5)
    margin.set_xticks([])
    margin.set_yticks([])
    axes.axvline(0, color=GREY, ls="--", lw=1.1)
    span = max(x[-1], 0.0) - min(x[0], 0.0)
    axes.set_xlim(min(x[0], 0.0) - 0.16 * span, max(x[-1], 0.0) + 0.04 * span)
    axes.set_ylim(0, 1.08)
    axes.set_yticks([])
    axes.set_title(f"{visible(name)}: out {chance_text(1 - density.inside, 10_000)}", fontsize=10)


def models_figure(found: Selected, size: Size | None, text: bool) -> Figure:
    """Draw the best subsets: probability above, below which candidates are in, and their signs."""
    subsets = found.subsets
    terms, shares = subsets.terms, subsets.shares
    count = min(_MOST_MODELS, len(shares))
    kept = subsets.kept[:count]
    order = [terms.index(name) for name in found.order]
    used = [at for at in order if kept[:, at].any()][:_MOST_ROWS]
    with styled():
        figure = new_figure(size, (_WIDE, 4.4 + 0.27 * len(used)))
        above, below = figure.subplots(
            2, 1, sharex=True, height_ratios=(2.4, max(0.27 * len(used), 0.4))
        )
        places = np.arange(1, count + 1)
        above.bar(places, shares[:count], 0.62, color=GREY)
        above.set_ylabel("posterior probability")
        light_grid(above, "y")
        for row, term in enumerate(used):
            inside = places[kept[:, term]]
            mark, colour = _sign(found, terms[term])
            below.plot([0.4, count + 0.6], [row, row], color=tint(GREY, 0.35), lw=0.8, zorder=0)
            below.plot(inside, np.full(len(inside), row), mark, color=colour, ms=8, mew=0)
        below.set_yticks(range(len(used)), [visible(terms[at]) for at in used])
        below.set_ylim(max(len(used), 1) - 0.4, -0.6)
        below.set_xlim(0.4, count + 0.6)
        below.set_xticks(places)
        below.set_xlabel("subset, the most probable first")
        whole = 100 * float(shares[:count].sum())
        return finish(
            figure,
            f"{found.question} The best subsets",
            f"These {count} hold {whole:.0f} % of the probability; {_weighed_words(found)}. "
            "Triangle up, blue: positive coefficient; down, red: negative; square: several "
            "columns.",
            text,
            about=found,
        )


def _sign(found: Selected, term: str) -> tuple[str, str]:
    """Return mark and colour of a candidate."""
    above = found.direction(term)
    if above is None:
        return "s", PURPLE
    return ("^", BLUE) if above >= 0.5 else ("v", RED)


def sizes_figure(found: Selected, size: Size | None, text: bool) -> Figure:
    """Draw how many candidates are in, before and after the data."""
    table = found.sizes()
    shown = np.flatnonzero(table.max(axis=1) > 0.001)
    numbers = np.arange(shown.min(), shown.max() + 1)
    part = table.iloc[numbers]
    with styled():
        figure = new_figure(size, (_WIDE, 4.6))
        axes = figure.subplots()
        axes.bar(numbers, part["posterior probability"], 0.7, color=BLUE, label="after the data")
        axes.plot(
            numbers,
            part["prior probability"],
            "_",
            color=INK,
            ms=min(24, 500 / len(numbers)),
            mew=2,
            label="before the data",
        )
        axes.set_xlabel("number of candidates in the model")
        axes.set_ylabel("probability")
        axes.xaxis.set_major_locator(MaxNLocator(integer=True))
        light_grid(axes, "y")
        axes.legend()
        return finish(
            figure,
            f"{found.question} How many",
            "Where bars lie on their marks, the data say nothing of the number.",
            text,
            about=found,
        )


def figures(found: SelectionFindings) -> dict[str, Callable[[Size | None, bool], Figure]]:
    """Return what draws each figure of the study, the main one first."""
    known: dict[str, Callable[[SelectionFindings, Size | None, bool], Figure]] = {
        "inclusion": inclusion_figure,
        "coefficients": coefficients_figure,
        "models": models_figure,
        "sizes": sizes_figure,
    }
    return {name: partial(draw, found) for name, draw in known.items()}
