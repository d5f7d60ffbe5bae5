"""Prior against posterior."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from matplotlib.patches import Patch

from millwright.errors import ArgumentError
from millwright.plots.choose import chosen
from millwright.plots.style import RIVER, STONE, density, finish, panel_grid, styled
from millwright.posterior import Posterior

__all__ = ["prior_posterior"]


def prior_posterior(
    posterior: Posterior,
    names: str | Sequence[str] | None = None,
    *,
    size: tuple[float, float] | None = None,
    text: bool = True,
) -> Figure:
    """Draw the prior and the posterior density of unknown and derived quantities, in own panels.

    Parameters
    ----------
    names
        Quantities to show; at most 12 single numbers.
    """
    single = chosen(posterior, names, most=12)
    prior = posterior.prior(names=list(dict.fromkeys(n.split("[")[0] for n in single)))
    if not single:
        raise ArgumentError("There is nothing to show.")
    with styled():
        figure, panels = panel_grid(len(single), size)
        for axes, (name, value) in zip(panels, single.items(), strict=False):
            _panel(axes, name, prior[name], value.reshape(-1))
        handles = [Patch(color=STONE, alpha=0.45), Line2D([], [], color=RIVER, lw=2)]
        figure.legend(
            handles, ["prior", "posterior"], loc="outside upper right", ncols=2, fontsize=9.5
        )
        return finish(
            figure,
            "Prior against posterior",
            "Both are drawn to the same height, since a narrow posterior would hide its prior. A "
            "posterior that is much narrower than its prior was learnt from the data; one that "
            "lies on its prior was not; one at the edge of its prior conflicts with it.",
            text,
        )


def _panel(axes: Axes, name: str, prior: np.ndarray, posterior: np.ndarray) -> None:
    finite = prior[np.isfinite(prior)]
    low, high = np.quantile(finite, [0.025, 0.975])
    shown = finite[(finite >= low) & (finite <= high)]
    grid, height = density(shown)
    axes.fill_between(grid, height / height.max(), color=STONE, alpha=0.45, lw=0)
    grid, height = density(posterior)
    axes.plot(grid, height / height.max(), color=RIVER, lw=2)
    axes.set_title(name)
    axes.set_ylim(0, 1.08)
    axes.set_yticks([])
    axes.spines["left"].set_visible(False)
