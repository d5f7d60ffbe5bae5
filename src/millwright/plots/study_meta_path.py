"""Models of a meta-analysis by their probability, and the answer as trials came in."""

from __future__ import annotations

import numpy as np
from matplotlib.figure import Figure

from millwright.draws.intervals import kind_words
from millwright.draws.numbers import chance_text
from millwright.plots.factor_ticks import factor_ticks
from millwright.plots.panels import Size
from millwright.plots.style import BLUE, GREY, INK, finish, light_grid, new_figure, styled, tint
from millwright.studies.meta_findings import MetaFindings
from millwright.wording import visible

__all__ = ["models_figure", "path_figure"]

_MOST_NAMES = 25


def models_figure(found: MetaFindings, size: Size | None, text: bool) -> Figure:
    """Draw the probability of each model before and after the data."""
    table = found.model_table()
    with styled():
        figure = new_figure(size, (12.8, 1.8 + 0.75 * len(table)))
        axes = figure.subplots()
        rows = np.arange(len(table))
        axes.barh(rows, table["posterior probability"], 0.55, color=BLUE, label="after the data")
        axes.plot(
            table["prior probability"],
            rows,
            "|",
            color=INK,
            ms=26,
            mew=2,
            label="before the data",
        )
        for row, value in enumerate(table["posterior probability"]):
            axes.annotate(
                chance_text(float(value), 1000),
                (value, row),
                (6, 0),
                textcoords="offset points",
                va="center",
            )
        axes.set_yticks(rows, [f"{name}:\n{says}" for name, says in table["says"].items()])
        axes.set_ylim(len(table) - 0.4, -0.6)
        axes.set_xlim(0, 1.08 * max(table["posterior probability"].max(), 0.3))
        axes.set_xlabel("probability of the model")
        light_grid(axes, "x")
        figure.legend(loc="outside right upper", markerscale=0.4)
        return finish(
            figure,
            f"{found.question} Models",
            "They rest on the priors of effect and spread: other priors give other "
            "probabilities; see the figure `evidence`.",
            text,
            about=found,
        )


def path_figure(found: MetaFindings, size: Size | None, text: bool) -> Figure:
    """Draw evidence and effect after each trial, in their order."""
    table = found.path()
    places = np.arange(1, len(table) + 1)
    values = table["log BF, effect"].to_numpy(float)
    middle, low, high = (table.iloc[:, at].to_numpy(float) for at in range(3))
    with styled():
        figure = new_figure(size, (12.8, 7.2))
        top, below = figure.subplots(2, 1, sharex=True)
        top.plot(places, values, "o-", color=BLUE, lw=2)
        top.axhline(0, color=INK, lw=1)
        reach = max(np.log(30.0), 1.1 * float(np.abs(values[np.isfinite(values)]).max(initial=0)))
        for threshold in (3, 10):
            for sign in (-1, 1):
                top.axhline(sign * np.log(threshold), color=GREY, lw=0.8, ls=":")
        top.set_ylim(-reach, reach)
        top.set_yticks(*factor_ticks(reach))
        top.set_ylabel("Bayes factor,\neffect over none")
        below.fill_between(places, low, high, color=tint(BLUE, 0.35), lw=0)
        below.plot(places, middle, "o-", color=BLUE, lw=2)
        below.axhline(0, color=GREY, ls="--", lw=1.2)
        below.set_ylabel("effect, trials\nallowed to differ")
        names = [visible(str(name)) for name in table.index]
        if len(names) <= _MOST_NAMES:
            below.set_xticks(places, names, rotation=30, ha="right")
        below.set_xlabel("after the trial")
        light_grid(below, "y")
        return finish(
            figure,
            f"{found.question} As trials came in",
            "Above: over 1 the trials so far favour an effect; dotted: 3 and 10. Whoever stops as "
            "soon as a line is passed will pass it more often than the final number says. Below: "
            f"median and {kind_words(found.kind, found.level)}.",
            text,
            about=found,
        )
