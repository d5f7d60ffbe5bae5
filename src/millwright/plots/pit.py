"""Where observations fall in their left-out predictions."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.errors import ArgumentError
from millwright.plots.bands import bands
from millwright.plots.choose import check_posterior
from millwright.plots.panels import Size, single_panel
from millwright.plots.style import GREY, INK, YELLOW, finish, light_grid, styled
from millwright.posterior.posterior import Posterior

__all__ = ["leave_one_out_pit"]

_COPIES = 2000


def leave_one_out_pit(
    posterior: Posterior,
    outcome: str | None = None,
    *,
    axes: Axes | None = None,
    size: Size = (12.8, 6.0),
    text: bool = True,
) -> Figure:
    """Draw how evenly observations fall into the predictions made from all other rows.

    Parameters
    ----------
    posterior
        The fit to show.
    outcome
        Which outcome, if there are several.
    axes
        Axes to draw into, without title and caption.
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
        For what cannot be shown: another kind of result, names that are not there, or too many.
    """
    found = check_posterior(posterior).leave_one_out_pit().iloc[:, 0]
    known = list(dict.fromkeys(found.index.get_level_values("outcome")))
    name = outcome or known[0]
    if name not in known:
        raise ArgumentError(f"There is no outcome `{name}`: {', '.join(known)}.")
    below = np.sort(found.loc[name].to_numpy())
    size_of = len(below)
    even = (np.arange(size_of) + 0.5) / size_of
    copies = np.random.default_rng(0).random((_COPIES, size_of))
    gaps = np.sort(copies, axis=1) - even
    with styled():
        figure, panel = single_panel(size, axes)
        bands(panel, even, gaps, YELLOW, "models that fit")
        panel.plot(even, below - even, "o-", color=INK, ms=3, lw=1.2, label="observations")
        panel.axhline(0, color=GREY, lw=1)
        panel.set_xlabel("place among the observations, 0 lowest to 1 highest")
        panel.set_ylabel("share of prediction below, minus even")
        panel.legend(loc="lower left", bbox_to_anchor=(0, 1), ncols=3, fontsize=10)
        light_grid(panel, "y")
        return finish(
            figure,
            f"Observations of {name} in the predictions from all other rows",
            "Good: the line stays in the bands. Low at the left and high at the right: the "
            "model is too sure. High at the left and low at the right: too vague. All above: "
            "it predicts too low; all below: too high.",
            text and axes is None,
            about=posterior,
        )
