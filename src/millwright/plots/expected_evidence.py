"""The Bayes factors that further rows are likely to bring."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.comparison.expected_evidence import ExpectedEvidence
from millwright.errors import ArgumentError
from millwright.plots.factor_ticks import factor_ticks
from millwright.plots.panels import Size, single_panel
from millwright.plots.style import BLUE, GREY, INK, RED, finish, styled, tint
from millwright.wording import visible

__all__ = ["expected_evidence"]

_BINS = 24
_FARTHEST = float(np.log(1e6))


def expected_evidence(
    found: ExpectedEvidence,
    *,
    axes: Axes | None = None,
    size: Size = (12.8, 6.0),
    text: bool = True,
) -> Figure:
    """Draw how often each Bayes factor is to be expected, upwards and downwards by the truth.

    Parameters
    ----------
    found
        Result of `mw.expected_evidence(...)`.
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
        For another kind of result.
    """
    if not isinstance(found, ExpectedEvidence):
        raise ArgumentError(
            f"Give the result of mw.expected_evidence(), not {type(found).__name__}."
        )
    one, other = map(visible, found.models)
    every = np.concatenate(list(found.log_factors.values()))
    limit = float(np.log(found.threshold))
    reach = min(max(1.6 * limit, 1.1 * float(np.abs(every).max())), 1.1 * _FARTHEST)
    edges = np.linspace(-reach, reach, _BINS + 1)
    with styled():
        figure, panel = single_panel(size, axes)
        highest = 0.0
        for source, colour, sign in zip(found.models, (BLUE, RED), (1, -1), strict=True):
            logs = np.clip(found.log_factors[source], -reach, reach)
            counts = np.histogram(logs, edges)[0] / len(logs)
            highest = max(highest, float(counts.max()))
            panel.bar(
                edges[:-1],
                sign * counts,
                width=np.diff(edges),
                align="edge",
                color=tint(colour, 0.55),
                edgecolor=colour,
                lw=0.8,
            )
            panel.text(
                0.01,
                0.5 + 0.46 * sign,
                f"if the rows come from {visible(source)}",
                transform=panel.transAxes,
                va="center",
                color=colour,
            )
        panel.axhline(0, color=INK, lw=1)
        for place in (-limit, limit):
            panel.axvline(place, color=GREY, lw=1, ls=":")
        panel.axvline(found.now, color=INK, lw=1.2, ls="--")
        panel.set_xlim(-reach, reach)
        panel.set_ylim(-1.25 * highest, 1.25 * highest)
        panel.set_xticks(*factor_ticks(reach))
        ticks = [t for t in panel.get_yticks() if abs(t) <= 1.25 * highest]
        panel.set_yticks(ticks, [f"{100 * abs(t):.0f} %" for t in ticks])
        panel.set_xlabel(f"Bayes factor, {one} over {other}, of all rows together")
        panel.set_ylabel("share of data sets")
        return finish(
            figure,
            f"Evidence for {one} over {other} to be expected from {found.rows} rows more",
            f"Dotted: {found.threshold:g} for either model; dashed: the Bayes factor of the rows "
            "that are there. What lies beyond the frame is counted at its edge.",
            text and axes is None,
        )
