"""Energies of the trajectories."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.diagnostics.energy import energy_fraction
from millwright.diagnostics.finding import ENERGY_LEAST
from millwright.draws.region import density
from millwright.errors import ArgumentError
from millwright.plots.choose import check_posterior
from millwright.plots.panels import Size, single_panel
from millwright.plots.style import BLUE, GREY, INK, bare, finish, styled, tint
from millwright.posterior.posterior import Posterior

__all__ = ["energy_changes"]


def energy_changes(
    posterior: Posterior,
    *,
    axes: Axes | None = None,
    size: Size = (12.8, 5.0),
    text: bool = True,
) -> Figure:
    """Draw the energies met, and how far one transition moves between them (Betancourt 2016).

    Parameters
    ----------
    posterior
        The fit to show.
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
        For a method without trajectories.
    """
    values = np.asarray(check_posterior(posterior).fit.statistics["energy"])
    if not np.isfinite(values).all():
        raise ArgumentError("These draws were not made by trajectories, and have no energies.")
    fractions = energy_fraction(values)
    with styled():
        figure, panel = single_panel(size, axes)
        centred = (values - values.mean()).reshape(-1)
        panel.fill_between(*density(centred), color=tint(GREY, 0.5), lw=0, label="energies")
        moves = np.diff(values, axis=1).reshape(-1)
        panel.plot(*density(moves), color=BLUE, lw=2, label="changes from draw to draw")
        panel.set_xlabel("energy, from its mean")
        bare(panel)
        panel.set_ylim(bottom=0)
        panel.legend(loc="upper right", fontsize=10)
        listed = ", ".join(f"{f:.2f}" for f in fractions[:8])
        panel.set_title(f"energy fraction of each chain: {listed}", color=INK)
        return finish(
            figure,
            "Energy of the draws, and its changes from draw to draw",
            "Good: the line is about as wide as the area or wider. Bad: a narrow line; the "
            f"sampler creeps from energy to energy. Fractions of {ENERGY_LEAST} or more are good.",
            text and axes is None,
            about=posterior,
        )
