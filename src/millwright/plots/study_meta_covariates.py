"""Trials over their covariates, with the effect that goes with them."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.draws.intervals import kind_words
from millwright.plots.panels import Size
from millwright.plots.style import BLUE, GREY, INK, finish, light_grid, new_figure, styled, tint
from millwright.studies.meta_covariates import effect_along
from millwright.studies.meta_findings import MetaFindings
from millwright.studies.reading import label_text
from millwright.wording import visible

__all__ = ["covariates_figure"]

_MOST = 4
_POINTS = 60
_SMALLEST, _LARGEST = 14.0, 160.0


def covariates_figure(found: MetaFindings, size: Size | None, text: bool) -> Figure:
    """Draw estimates over each covariate, and the effect with its interval."""
    design = found.study.table.design
    assert design is not None
    names = design.formula.columns[:_MOST]
    columns = min(2, len(names))
    rows = -(-len(names) // columns)
    with styled():
        figure = new_figure(size, (12.8, 1.4 + 4.4 * rows))
        places = figure.subplots(rows, columns, squeeze=False, sharey=True)
        for at, axes in enumerate(places.flat):
            if at >= len(names):
                axes.set_visible(False)
            elif names[at] in design.levels:
                _labels(axes, found, names[at], design.levels[names[at]])
            else:
                _numbers(axes, found, names[at])
        for axes in places[:, 0]:
            axes.set_ylabel(visible(found.study.table.shown))
        cut = f" The first {_MOST} of {len(design.formula.columns)} covariates." * (
            len(design.formula.columns) > _MOST
        )
        return finish(
            figure,
            f"{found.question} Covariates",
            "Dots: estimates as given, area by weight. Blue: the effect, median and "
            f"{kind_words(found.kind, found.level)}, other covariates as they are in the trials "
            f"(model `random`).{cut}",
            text,
            about=found,
        )


def _areas(found: MetaFindings) -> np.ndarray:
    weights = 1 / found.study.table.trials.errors**2
    return np.asarray(_SMALLEST + (_LARGEST - _SMALLEST) * weights / weights.max())


def _numbers(axes: Axes, found: MetaFindings, name: str) -> None:
    table = found.study.table
    values = table.frame[name].to_numpy(float)
    grid = np.linspace(values.min(), values.max(), _POINTS)
    told = effect_along(found, name, list(grid))
    axes.fill_between(grid, told.iloc[:, 1], told.iloc[:, 2], color=tint(BLUE, 0.3), lw=0)
    axes.plot(grid, told.iloc[:, 0], color=BLUE, lw=2)
    axes.scatter(values, table.trials.estimates, s=_areas(found), color=INK, lw=0, alpha=0.75)
    _frame(axes, name)


def _labels(axes: Axes, found: MetaFindings, name: str, labels: tuple[str, ...]) -> None:
    table = found.study.table
    told = effect_along(found, name, labels)
    texts = [label_text(value) for value in table.frame[name]]
    places = np.array([labels.index(one) for one in texts])
    for at in range(len(labels)):
        middle, low, high = told.iloc[at, :3].to_numpy(float)
        axes.plot([at + 0.18] * 2, [low, high], color=BLUE, lw=6, alpha=0.45)
        axes.plot([at + 0.18], [middle], "o", color="white", mec=BLUE, ms=7)
    areas = _areas(found)
    axes.scatter(places - 0.05, table.trials.estimates, s=areas, color=INK, lw=0, alpha=0.75)
    axes.set_xticks(range(len(labels)), [visible(one) for one in labels])
    axes.set_xlim(-0.6, len(labels) - 0.4)
    _frame(axes, name)


def _frame(axes: Axes, name: str) -> None:
    axes.axhline(0, color=GREY, ls="--", lw=1.2)
    axes.set_xlabel(visible(name))
    light_grid(axes, "y")
