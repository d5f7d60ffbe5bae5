"""The path of evidence that further trials are likely to take."""

from __future__ import annotations

import numpy as np
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from millwright.errors import ArgumentError
from millwright.plots.factor_ticks import factor_ticks
from millwright.plots.panels import Size
from millwright.plots.style import BLUE, GREY, INK, RED, finish, new_figure, styled, tint
from millwright.studies.meta_further import EFFECT, FurtherTrials

__all__ = ["further_trials"]

_FARTHEST = float(np.log(1e6))
_LINES = 12


def further_trials(found: FurtherTrials, *, size: Size = (12.8, 6.0), text: bool = True) -> Figure:
    """Draw where the Bayes factor is likely to go as trials come in, by what is true.

    Parameters
    ----------
    found
        Result of `findings.further_trials(...)` of a meta-analysis.
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
        For another kind of result.
    """
    if not isinstance(found, FurtherTrials):
        raise ArgumentError(
            f"Give the result of findings.further_trials(), not {type(found).__name__}."
        )
    every = np.concatenate([logs.ravel() for logs in found.log_factors.values()])
    limit = float(np.log(found.threshold))
    reach = min(max(1.6 * limit, 1.05 * float(np.abs(every).max())), _FARTHEST)
    with styled():
        figure = new_figure(size)
        panels = figure.subplots(1, 2, sharey=True)
        table = found.table()
        for axes, (truth, logs), colour in zip(
            panels, found.log_factors.items(), (BLUE, RED), strict=True
        ):
            places = np.arange(logs.shape[1])
            low, middle, high = np.quantile(logs, [0.05, 0.5, 0.95], axis=0)
            axes.fill_between(places, low, high, color=tint(colour, 0.3), lw=0)
            axes.plot(places, logs[:_LINES].T, color=colour, lw=0.6, alpha=0.5)
            axes.plot(places, middle, color=INK, lw=2)
            axes.axhline(0, color=INK, lw=1)
            for edge in (-limit, limit):
                axes.axhline(edge, color=GREY, lw=1, ls=":")
            axes.set_yticks(*factor_ticks(reach))
            axes.set_ylim(max(-reach, min(-1.6 * limit, 1.05 * float(every.min()))), reach)
            axes.set_xlabel("further trials")
            axes.xaxis.set_major_locator(MaxNLocator(integer=True))
            row = table.xs((truth, logs.shape[1] - 1)).to_numpy(float)
            shares = ", ".join(
                f"{name} {100 * share:.0f} %"
                for name, share in zip(("conclusive", "misleading", "open"), row[3:], strict=True)
            )
            axes.set_title(f"If there is {truth}:\nin the end {shares}", loc="left", fontsize=10.5)
        panels[0].set_ylabel(f"Bayes factor, {EFFECT} over none")
        return finish(
            figure,
            f"Evidence to be expected from {len(found.errors)} further trials",
            "Line: median, band: 90 % of simulated paths, thin lines: some of them; dotted: "
            f"{found.threshold:g} for either side. Paths start from the trials that are there, "
            "and come from their posterior.",
            text,
        )
