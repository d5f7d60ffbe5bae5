"""Series in time: readings, the states behind them, and how they go on."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.checks import check_whole
from millwright.draws.conditioning import joint_outcomes
from millwright.errors import ArgumentError
from millwright.plots.bands import bands
from millwright.plots.choose import check_posterior
from millwright.plots.panels import Size
from millwright.plots.style import BLUE, INK, YELLOW, finish, light_grid, new_figure, styled
from millwright.posterior.posterior import Posterior

__all__ = ["series"]

_MOST_STATES = 4


def series(
    posterior: Posterior,
    outcome: str | None = None,
    *,
    ahead: int = 0,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw a state-space outcome: its readings, its smoothed states, and its forecast.

    Parameters
    ----------
    posterior
        The fit to show.
    outcome
        Which outcome, if there are several.
    ahead
        How many rows to go on after the last one, for a series without predictors.
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
    check_posterior(posterior)
    names = [
        part.name
        for part in joint_outcomes(posterior.draws.binding)
        if part.family == "state_space"
    ]
    name = (names[0] if len(names) == 1 else None) if outcome is None else outcome
    if name not in names:
        raise ArgumentError(
            f"Say which series: {', '.join(names) or 'this model has no state_space outcome'}."
        )
    check_whole("ahead", ahead, 0)
    found = posterior.latent(name)
    states = [str(label) for label in found.coords[found.dims[3]].values][:_MOST_STATES]
    with styled():
        rows = 1 + len(states)
        figure = new_figure(*(size or (12.8, min(8.0, 2.6 + 2.0 * rows))))
        panels = figure.subplots(rows, 1, squeeze=False, sharex=True)[:, 0]
        _readings(panels[0], posterior, name, ahead)
        for at, (panel, label) in enumerate(zip(panels[1:], states, strict=True)):
            values = found.values[..., at].reshape(-1, found.shape[2])
            _bands(panel, np.arange(1, values.shape[1] + 1), values, BLUE, "state")
            panel.set_title(f"state {label}, given all readings")
            light_grid(panel, "y")
        panels[-1].set_xlabel("row")
        return finish(
            figure,
            f"Series: {name}, its states" + (", and how it goes on" if ahead else ""),
            "Bands are 50 % and 95 % central intervals. States are smoothed: each is judged by "
            "all readings, before and after it."
            + " Beyond the last reading: new readings, noise included."
            * bool(ahead),
            text,
            about=posterior,
        )


def _readings(axes: Axes, posterior: Posterior, name: str, ahead: int) -> None:
    seen = np.asarray(posterior.draws.binding.arguments["observed", name])
    axes.plot(np.arange(1, len(seen) + 1), seen, "o", color=INK, ms=4, label="reading")
    for gap in np.flatnonzero(np.isnan(seen)):
        axes.axvline(float(gap + 1), color=INK, lw=0.6, ls=":")
    if ahead:
        draws = posterior.predict(rows=ahead).draws[name]
        x = np.arange(len(seen) + 1, len(seen) + ahead + 1)
        _bands(axes, x, draws, YELLOW, "forecast")
    title = posterior.draws.binding.specification.with_unit(name)
    axes.set_title(f"{title}; dotted: no reading" if np.isnan(seen).any() else title)
    axes.legend(loc="center left", bbox_to_anchor=(1.0, 0.5), fontsize=10)
    light_grid(axes, "y")


def _bands(axes: Axes, x: np.ndarray, draws: np.ndarray, colour: str, label: str) -> None:
    bands(axes, x, draws, colour, label)
    axes.plot(x, np.median(draws, axis=0), color=colour, lw=1.6, label=f"{label}, median")
