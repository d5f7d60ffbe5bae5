"""How evenly truths rank among posterior draws."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.diagnostics.uniformity import even_band, even_places
from millwright.errors import ArgumentError
from millwright.models.calibration import Calibration
from millwright.plots.choose import MOST_PANELS, chosen_names, on_page
from millwright.plots.panels import Size, panel_grid
from millwright.plots.style import BLUE, GREY, RED, finish, light_grid, styled, tint

__all__ = ["calibration"]


def calibration(
    found: Calibration,
    names: Sequence[str] | None = None,
    *,
    page: int | None = None,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw how often truths rank low or high among the draws of the fits to their data.

    Parameters
    ----------
    found
        Result of `Model.calibration(...)`.
    names
        Quantities to show; by default all, at most 12 a page.
    page
        Which page, from 1, where there are more.
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
        For another kind of result, names that are not there, or more than fit into one figure.
    """
    if not isinstance(found, Calibration):
        raise ArgumentError(f"Give the result of model.calibration(), not {type(found).__name__}.")
    every = chosen_names(found.shares, names, len(found.shares))
    shown, words = on_page(every, "quantities", MOST_PANELS, page)
    wrong = found.table()["in words"]
    with styled():
        figure, panels = panel_grid(len(shown), size)
        for axes, name in zip(panels, shown, strict=True):
            good = wrong[name] == "calibrated"
            _line(axes, found.shares[name], BLUE if good else RED)
            axes.set_title(name if good else f"{name}: {wrong[name]}")
        count = len(next(iter(found.shares.values())))
        return finish(
            figure,
            f"Calibration over {count} simulated data sets{words}",
            "Line: share of truths below a place among the posterior draws, minus what is even. "
            "Good: it stays in the grey band, which holds 95 % of whole even lines. Above the "
            "band: the posterior lies too high; below: too low; above at the left and below at "
            "the right: intervals are too narrow; the other way round: too wide.",
            text,
        )


def _line(axes: Axes, shares: np.ndarray, colour: str) -> None:
    size = len(shares)
    places = even_places(size)
    low, high = even_band(size)
    axes.fill_between(places, low - places, high - places, color=tint(GREY, 0.35), lw=0)
    below = np.searchsorted(np.sort(shares), places, side="right") / size
    axes.plot(places, below - places, color=colour, lw=1.6)
    axes.axhline(0, color=GREY, lw=0.8)
    axes.set_xlim(0, 1)
    axes.set_xticks([0, 0.5, 1], ["lowest draw", "middle", "highest"])
    axes.set_ylabel("share minus even")
    light_grid(axes, "y")
