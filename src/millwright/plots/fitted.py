"""Fitted lines: what the prior allows, and what the posterior says, over the data."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.checks import check_whole
from millwright.draws.curve import Curve, curve
from millwright.draws.labelled_draws import Draws
from millwright.draws.simulated import Simulated
from millwright.plots.bands import bands
from millwright.plots.choose import check_posterior
from millwright.plots.panels import Size, single_panel
from millwright.plots.prior import check_simulated
from millwright.plots.style import BLUE, INK, YELLOW, finish, styled
from millwright.posterior.posterior import Posterior

__all__ = ["fitted_line", "prior_lines"]


def fitted_line(
    posterior: Posterior,
    column: str,
    outcome: str | None = None,
    *,
    lines: int = 0,
    axes: Axes | None = None,
    size: Size = (12.8, 7.0),
    text: bool = True,
) -> Figure:
    """Draw the fitted expectation of an outcome along a column, with bands, over the data.

    Parameters
    ----------
    posterior
        The fit to show.
    column
        Column of numbers along the horizontal axis, or a column of a matrix (`flow`, `X[flow]`);
        others are held at their mean or most frequent label.
    outcome
        Which outcome, if there are several.
    lines
        How many single curves, each of one draw, to draw over the bands.
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
    check_posterior(posterior)
    check_whole("lines", lines, 0)
    line = curve(posterior.draws, column, outcome, posterior.record.seed)
    name = outcome or posterior.draws.binding.program.outcomes[0].name
    with styled():
        figure, panel = single_panel(size, axes)
        what = "probability" if line.yes_or_no else "expectation"
        if not line.yes_or_no:
            _new_observations(panel, line)
        bands(panel, line.x, line.expected, BLUE, what)
        for at, single in enumerate(_spread_out(line.expected, lines)):
            label = "single curves" if at == 0 else None
            panel.plot(line.x, single, color=INK, lw=0.5, alpha=0.4, label=label)
        middle = np.median(line.expected, axis=0)
        panel.plot(line.x, middle, color=BLUE, lw=2, label=f"{what}, median")
        seen = posterior.draws.binding.arguments["observed", name]
        panel.plot(line.at, seen, "o", color=INK, ms=5, label="observed")
        _labels(panel, posterior.draws, column, name)
        return finish(
            figure,
            f"Fitted line: {name} along {column}",
            (
                "Bands are central intervals of the probability that the outcome is 1."
                if line.yes_or_no
                else "Bands are central intervals. The narrow bands say where the expectation "
                "lies; about 95 in 100 new observations should fall into the wide one."
            )
            + _held(line),
            text and axes is None,
            about=posterior,
        )


def prior_lines(
    simulated: Simulated,
    column: str,
    outcome: str | None = None,
    *,
    lines: int = 12,
    axes: Axes | None = None,
    size: Size = (12.8, 7.0),
    text: bool = True,
) -> Figure:
    """Draw lines that the prior allows over the data's range, before any fit.

    Parameters
    ----------
    simulated
        Result of `model.simulate(data)`.
    column
        Column of numbers along the horizontal axis.
    lines
        How many single lines to draw over the band.
    axes
        Axes to draw into, without title and caption.
    outcome
        Which outcome, if there are several.
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
    check_simulated(simulated)
    check_whole("lines", lines, 0)
    draws: Draws = simulated.draws
    line = curve(draws, column, outcome, seed=0, prior=True)
    name = outcome or draws.binding.program.outcomes[0].name
    with styled():
        figure, panel = single_panel(size, axes)
        what = "probability" if line.yes_or_no else "expectation"
        if not line.yes_or_no:
            _new_observations(panel, line)
        for at, single in enumerate(line.expected[:lines]):
            label = f"{what}: single lines from the prior" if at == 0 else None
            panel.plot(line.x, single, color=BLUE, lw=1.3, label=label)
        _whole_range(panel, line.expected[:lines], line)
        _labels(panel, draws, column, name)
        return finish(
            figure,
            f"Prior: {name} along {column}, before seeing the data",
            f"{simulated.ninety_percent(name)} If impossible values are common, tighten the "
            "priors; if known values are missing, widen them." + _held(line),
            text and axes is None,
        )


def _spread_out(curves: np.ndarray, count: int) -> np.ndarray:
    """Return so many of the draws, evenly over all of them."""
    step = max(1, len(curves) // max(count, 1))
    return curves[::step][:count]


def _new_observations(axes: Axes, line: Curve) -> None:
    # The noise of each place is drawn by itself.
    middle = np.nanmedian(np.where(np.isfinite(line.expected), line.expected, np.nan), axis=0)
    words = "new observations"
    bands(axes, line.x, line.outcomes, YELLOW, words, levels=(0.95,), around=middle)


def _whole_range(axes: Axes, lines: np.ndarray, line: Curve) -> None:
    """Show all of the band, and of every line that has not run away from the others."""
    shown = line.expected if line.yes_or_no else line.outcomes
    ends = np.nanquantile(np.where(np.isfinite(shown), shown, np.nan), [0.025, 0.975], axis=0)
    low, high = np.nanmin(ends[0]), np.nanmax(ends[1])
    wide = high - low
    inside = lines[np.isfinite(lines) & (lines > low - wide / 2) & (lines < high + wide / 2)]
    low, high = min(low, inside.min(initial=low)), max(high, inside.max(initial=high))
    axes.set_ylim(low - 0.04 * (high - low), high + 0.04 * (high - low))


def _labels(axes: Axes, draws: Draws, column: str, outcome: str) -> None:
    with_unit = draws.binding.specification.with_unit
    axes.set_xlabel(with_unit(column))
    axes.set_ylabel(with_unit(outcome))
    axes.margins(x=0.02)
    axes.legend(loc="center left", bbox_to_anchor=(1.0, 0.5), fontsize=10)


def _held(line: Curve) -> str:
    if not line.held:
        return ""
    values = ", ".join(
        f"{name} at {value:.3g}" if isinstance(value, float) else f"{name} at {value}"
        for name, value in line.held.items()
    )
    return f" Held meanwhile: {values}."
