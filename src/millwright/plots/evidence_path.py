"""The Bayes factor of two models as rows come in."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from millwright.comparison.evidence_path import EvidencePath
from millwright.errors import ArgumentError
from millwright.evidence.evidence import STATED
from millwright.plots.factor_ticks import factor_ticks
from millwright.plots.panels import Size, single_panel
from millwright.plots.style import BLUE, GREY, INK, finish, styled, tint
from millwright.wording import visible

__all__ = ["evidence_path"]

_THRESHOLDS = (3.0, 10.0)


def evidence_path(
    found: EvidencePath,
    *,
    axes: Axes | None = None,
    size: Size = (12.8, 6.0),
    text: bool = True,
) -> Figure:
    """Draw the log Bayes factor after each step, with the zones that words stand for.

    Parameters
    ----------
    found
        Result of `mw.evidence_path(...)`.
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
    if not isinstance(found, EvidencePath):
        raise ArgumentError(f"Give the result of mw.evidence_path(), not {type(found).__name__}.")
    one, other = map(visible, found.models)
    with styled():
        figure, panel = single_panel(size, axes)
        panel.plot(found.rows, found.log_factors, "o-", color=BLUE, ms=4, lw=1.6)
        if found.sampled:
            stated = STATED * found.log_factor_errors
            low, high = found.log_factors - stated, found.log_factors + stated
            panel.fill_between(found.rows, low, high, color=tint(BLUE, 0.3), lw=0, zorder=0)
        panel.axhline(0, color=INK, lw=1)
        reach = max(np.log(30.0), 1.1 * float(np.nanmax(np.abs(found.log_factors), initial=0.0)))
        panel.set_ylim(-reach, reach)
        ends = [0.0, *np.log(_THRESHOLDS), reach]
        names = ("hardly worth a mention", "moderate evidence", "strong evidence")
        room = 0.04 * reach
        for name, low, high in zip(names, ends[:-1], ends[1:], strict=True):
            for sign, model in ((1, one), (-1, other)):
                if low > 0:
                    panel.axhline(sign * low, color=GREY, lw=0.8, ls=":")
                if high - low > 2.5 * room:
                    words = name if low == 0 else f"{name} for {model}"
                    panel.text(
                        1.01,
                        sign * (low + high) / 2,
                        words,
                        transform=panel.get_yaxis_transform(),
                        va="center",
                        fontsize=9.5,
                        color=INK,
                    )
        panel.set_yticks(*factor_ticks(reach))
        panel.xaxis.set_major_locator(MaxNLocator(integer=True))
        panel.set_xlabel("number of rows")
        panel.set_ylabel(f"Bayes factor, {one} over {other}")
        return finish(
            figure,
            f"Evidence for {one} over {other} as rows came in",
            "Above 1 the data so far favour "
            f"{one}, below {other}; dotted: 3 and 10. Whoever stops as soon as a line is passed "
            "will pass it more often than the final number says."
            + (f" Band: {STATED} standard errors." if found.sampled else ""),
            text and axes is None,
        )
