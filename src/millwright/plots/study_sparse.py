"""The figures of a selection by shrunken slopes."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from matplotlib.figure import Figure

from millwright.plots.panels import Size
from millwright.plots.study_regression import figures as regression_figures
from millwright.plots.study_selection import inclusion_figure, models_figure, sizes_figure
from millwright.studies.sparse_findings import SparseFindings

__all__ = ["figures"]


def figures(found: SparseFindings) -> dict[str, Callable[[Size | None, bool], Figure]]:
    """Return what draws each figure of the study, the main one first."""
    of_regression = regression_figures(found)
    return {
        "inclusion": partial(inclusion_figure, found),
        "coefficients": of_regression["coefficients"],
        "models": partial(models_figure, found),
        "sizes": partial(sizes_figure, found),
        **{name: draw for name, draw in of_regression.items() if name != "coefficients"},
    }
