"""Shares of forecast variance by the shocks that they come from."""

from __future__ import annotations

import numpy as np
from matplotlib.figure import Figure

from millwright.plots.panels import Size
from millwright.plots.style import CHAINS, finish, new_figure, styled, tint
from millwright.studies.autoregression_responses import Shares
from millwright.studies.findings import Findings
from millwright.wording import visible

__all__ = ["shares"]

_WIDE = 12.8


def shares(found: Shares, about: Findings, size: Size | None, text: bool) -> Figure:
    """Draw a panel a series: bars by steps ahead, cut into the shares of shocks."""
    mean = found.draws.mean(axis=0)
    steps = np.arange(1, len(mean) + 1)
    with styled():
        figure = new_figure(size, (_WIDE, 4.4))
        panels = figure.subplots(1, len(found.series), squeeze=False, sharey=True)[0]
        colours = [tint(colour, 0.75) for colour, _ in CHAINS]
        for j, (axes, series) in enumerate(zip(panels, found.series, strict=True)):
            below = np.zeros(len(steps))
            for i, shock in enumerate(found.shocks):
                axes.bar(
                    steps,
                    mean[:, j, i],
                    0.86,
                    bottom=below,
                    color=colours[i % len(colours)],
                    label=f"shocks of {visible(shock)}",
                )
                below = below + mean[:, j, i]
            axes.set_title(visible(series))
            axes.set_xlabel("steps ahead")
            axes.set_ylim(0, 1)
        panels[0].set_ylabel("share of the forecast variance")
        handles, labels = panels[0].get_legend_handles_labels()
        figure.legend(handles, labels, loc="outside right upper")
        return finish(
            figure,
            f"{about.question} Shares of shocks",
            f"Posterior means; {found.words}",
            text,
            about=about,
        )
