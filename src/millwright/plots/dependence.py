"""How draws depend on each other: autocorrelation and running means."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.checks import check_whole
from millwright.diagnostics.autocorrelation import autocorrelations
from millwright.diagnostics.convergence import mean_error
from millwright.plots.choose import chosen
from millwright.plots.panels import Size
from millwright.plots.per_chain import per_chain
from millwright.plots.style import CHAINS, GREY, INK, light_grid, tint
from millwright.posterior.posterior import Posterior

__all__ = ["autocorrelation", "running_mean"]


def autocorrelation(
    posterior: Posterior,
    names: str | Sequence[str] | None = None,
    *,
    lags: int = 40,
    page: int | None = None,
    axes: Axes | None = None,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw the autocorrelation of each chain.

    Parameters
    ----------
    posterior
        The fit to show.
    names
        Quantities or expressions to show; at most 12 single numbers a page.
    lags
        How far, in kept draws.
    page
        Which page, from 1, where there are more.
    axes
        Axes to draw a single quantity into, without title and caption.
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
        For what is not a posterior, a page that is not there, or more quantities than fit into one
        figure.
    UnknownLabelError
        For a quantity that is not there.
    """
    shown = chosen(posterior, names, 12, page)
    check_whole("lags", lags, 1)

    def draw(panel: Axes, name: str, value: np.ndarray) -> None:
        most = min(lags, value.shape[1] - 1)
        for chain, line in enumerate(value):
            colour, style = CHAINS[chain % len(CHAINS)]
            found = autocorrelations(line[None], most)
            panel.plot(range(most + 1), found, color=colour, ls=style, lw=1.5)
        panel.axhline(0, color=INK, lw=0.8)
        panel.set_ylim(min(-0.15, panel.get_ylim()[0]), 1.05)
        panel.set_xlabel("lag in kept draws")
        light_grid(panel, "y")

    return per_chain(
        shown,
        draw,
        "Autocorrelation of the chains",
        "Good: down to 0 within a few lags. Slow: still far from 0 at the right; each draw then "
        "says little new, and more draws are needed. Below 0 at lag 1 is good too: successive "
        "draws lie on opposite sides of the mean.",
        axes=axes,
        size=size,
        text=text,
    )


def running_mean(
    posterior: Posterior,
    names: str | Sequence[str] | None = None,
    *,
    page: int | None = None,
    axes: Axes | None = None,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw each chain's mean up to each draw, against the final mean with its error.

    Parameters
    ----------
    posterior
        The fit to show.
    names
        Quantities or expressions to show; at most 12 single numbers a page.
    page
        Which page, from 1, where there are more.
    axes
        Axes to draw a single quantity into, without title and caption.
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
        For what is not a posterior, a page that is not there, or more quantities than fit into one
        figure.
    UnknownLabelError
        For a quantity that is not there.
    """
    shown = chosen(posterior, names, 12, page)
    return per_chain(
        shown,
        _means,
        "Running means of the chains",
        "Each line is the mean of a chain's draws so far. Good: all end in or near the grey band "
        "(the mean of all chains, 2 Monte Carlo standard errors to each side) and no longer "
        "drift.",
        axes=axes,
        size=size,
        text=text,
    )


def _means(axes: Axes, name: str, value: np.ndarray) -> None:
    draws = np.arange(1, value.shape[1] + 1)
    means = np.cumsum(value, axis=1) / draws
    for chain, line in enumerate(means):
        colour, style = CHAINS[chain % len(CHAINS)]
        axes.plot(draws, line, color=colour, ls=style, lw=1.3)
    middle, error = value.mean(), float(mean_error(value[..., None])[0])
    if np.isfinite(error):
        axes.axhspan(middle - 2 * error, middle + 2 * error, color=tint(GREY, 0.35), lw=0)
    # The first means swing widely and say nothing.
    late = means[:, value.shape[1] // 20 :]
    spread = max(np.abs(late - middle).max(), 4 * error if np.isfinite(error) else 0.0, 1e-300)
    axes.set_ylim(middle - 1.1 * spread, middle + 1.1 * spread)
    axes.set_xlim(1, max(2, value.shape[1]))
    axes.set_xlabel("draws so far")
