"""Residuals of a regression: against what was expected, and against the normal distribution."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from scipy.special import ndtri

from millwright.plots.bands import bands
from millwright.plots.panels import Size
from millwright.plots.style import (
    BLUE,
    GREY,
    INK,
    YELLOW,
    finish,
    light_grid,
    new_figure,
    styled,
)
from millwright.studies.regression_findings import RegressionFindings
from millwright.wording import visible

__all__ = ["residuals_figure"]

_COPIES = 2000
_FAR = 3.0
_MOST_NAMED = 5
_USUAL = 2.0


def residuals_figure(found: RegressionFindings, size: Size | None, text: bool) -> Figure:
    """Draw the scores of the rows: spread over the expected outcome, and sorted."""
    outcome = next(iter(found.study.parts.values())).outcome
    table = found.residuals().dropna(subset=["score"])
    scores = table["score"].to_numpy()
    with styled():
        figure = new_figure(size, (12.8, 6.4))
        left, right = figure.subplots(1, 2)
        left.axhline(0, color=GREY, lw=1.2)
        for edge in (-_USUAL, _USUAL):
            left.axhline(edge, color=GREY, lw=1.2, ls="--")
        left.plot(table["expected"], scores, "o", ms=4, color=INK, mew=0, alpha=0.6)
        _name_far_rows(left, table["expected"].to_numpy(), scores, table.index.to_numpy())
        left.set_xlabel(f"expected {visible(outcome)}")
        left.set_ylabel("score of the row")
        light_grid(left, "y")
        _sorted(right, scores)
        whole = bool((table["observed"] % 1 == 0).all())
        outside = int((np.abs(scores) > _USUAL).sum())
        return finish(
            figure,
            f"{found.question} Residuals",
            "Where each row falls in its prediction from all other rows, as a normal score"
            f"{'; ties of whole numbers are spread at random' * whole}. "
            f"Left: {outside} of {len(scores)} rows lie outside the dashed lines at -2 and 2; "
            "about 5 % do if the model fits. A bend or a funnel: a predictor or its form is "
            "missing. Right: good where the dots stay in the bands; ends that leave them: tails "
            "heavier than the family's.",
            text,
            about=found,
        )


def _sorted(axes: Axes, scores: np.ndarray) -> None:
    n = len(scores)
    even = ndtri((np.arange(n) + 0.5) / n)
    copies = np.sort(np.random.default_rng(0).standard_normal((_COPIES, n)), axis=1)
    bands(axes, even, copies, YELLOW, "models that fit", around=even)
    axes.plot(even, even, color=GREY, lw=1)
    axes.plot(even, np.sort(scores), "o", ms=4, color=BLUE, mew=0, label="rows")
    axes.set_xlabel("normal score of its place")
    axes.set_ylabel("score, sorted")
    axes.legend(loc="upper left")
    light_grid(axes, "y")


def _name_far_rows(axes: Axes, x: np.ndarray, scores: np.ndarray, rows: np.ndarray) -> None:
    far = np.argsort(-np.abs(scores))[:_MOST_NAMED]
    for at in far[np.abs(scores[far]) > _FAR]:
        axes.annotate(f"row {rows[at]}", (x[at], scores[at]), (6, 0), textcoords="offset points")
