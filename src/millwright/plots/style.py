"""The look of all figures: colours, line styles, titles and captions."""

from __future__ import annotations

import re
import textwrap
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import matplotlib as mpl
from matplotlib.axes import Axes
from matplotlib.colors import to_rgb
from matplotlib.figure import Figure
from matplotlib.layout_engine import ConstrainedLayoutEngine

from millwright.checks import check_positive
from millwright.errors import ArgumentError
from millwright.wording import visible

__all__ = [
    "BLUE",
    "CHAINS",
    "GREEN",
    "GREY",
    "INK",
    "PURPLE",
    "RED",
    "YELLOW",
    "bare",
    "finish",
    "light_grid",
    "mark",
    "new_figure",
    "styled",
    "tint",
    "wrapped",
]

INK = "#22303C"
GREY = "#818487"
BLUE = "#3F84BC"
RED = "#B95430"
GREEN = "#86B87E"
YELLOW = "#D9B055"
PURPLE = "#5A3676"
"""Told apart with every common colour-vision deficiency too; a test measures how far."""

# Neighbours differ in lightness and in line style, for grey print. Red and green come last: they
# mean trouble and acceptance elsewhere.
CHAINS = [
    (BLUE, "-"),
    (YELLOW, "--"),
    (PURPLE, "-."),
    (INK, ":"),
    (GREY, (0, (5, 1))),
    (GREEN, (0, (3, 1, 1, 1))),
    (RED, "-"),
    (BLUE, ":"),
]

_LETTERS = 9.6
"""Letters of a title on one inch."""

_ENTRY = 1.15
"""Inches that one entry of a legend takes."""

_STYLE: dict[str, Any] = {
    "font.family": "DejaVu Sans",
    "font.size": 10.5,
    "axes.edgecolor": GREY,
    "axes.labelcolor": INK,
    "axes.titlecolor": INK,
    "axes.titlelocation": "left",
    "axes.titlesize": 11,
    # Titles and labels come from sheets and data: a dollar sign there is a dollar sign.
    "text.parse_math": False,
    "axes.spines.top": False,
    "axes.spines.right": False,
    "axes.formatter.useoffset": False,
    "xtick.color": INK,
    "ytick.color": INK,
    "text.color": INK,
    "legend.frameon": False,
    "figure.facecolor": "white",
    "axes.facecolor": "white",
    "savefig.facecolor": "white",
    "grid.color": "#E3E4E6",
}


@contextmanager
def styled() -> Iterator[None]:
    """Apply the style inside a plot function, over Matplotlib's own defaults."""
    settings: Any = {str(k): v for k, v in mpl.rcParamsDefault.items()}
    with mpl.rc_context(), mpl.rc_context(settings | _STYLE):
        yield


def new_figure(
    size: tuple[float, float] | None, usual: tuple[float, float] | None = None
) -> Figure:
    """Return an empty figure of a size in inches, or of its usual one.

    Raises
    ------
    ArgumentError
        For what is no width and height.
    """
    width, height = _inches(usual if size is None else size)
    layout = ConstrainedLayoutEngine(w_pad=0.08, h_pad=0.08)
    return Figure(figsize=(width, height), layout=layout, dpi=100)


def _inches(size: Any) -> tuple[float, float]:
    try:
        width, height = (check_positive("size", float(one)) for one in size)
    except (TypeError, ValueError) as error:
        raise ArgumentError(
            f"`size` is a width and a height in inches, such as (12.8, 8), not {size!r}."
        ) from error
    return width, height


def finish(
    figure: Figure, title: str, caption: str, show_text: bool, about: object = None
) -> Figure:
    """Add the title, which says what is shown, and the caption, which says how to read it.

    A figure of the user's, whose axes were given, gets neither.

    Parameters
    ----------
    about
        The posterior that is shown: if its verdict is not good, the figure says so.
    """
    verdict: Any = getattr(about, "verdict", None)
    warning = verdict.headline if verdict is not None and not verdict.good else ""
    if warning and not show_text:
        figure.text(0.005, 0.005, warning, ha="left", fontsize=9.5, color=RED)
    if show_text:
        # In one line, for who takes the words and not the picture of them.
        figure.set_label(visible(title))
        title = _broken(figure, title)
        figure.suptitle(
            visible(f"{title}\n{warning}" if warning else title, keep="\n"),
            x=0.01,
            ha="left",
            fontsize=13,
            fontweight="bold",
            color=RED if warning else INK,
        )
        wide = int(figure.get_figwidth() * 13.5)
        figure.supxlabel(textwrap.fill(caption, wide), x=0.01, ha="left", fontsize=9.5, color=INK)
    return figure


def _broken(figure: Figure, title: str) -> str:
    """Break a title into lines that leave room for the legends beside it."""
    entries = sum(len(legend.get_texts()) for legend in figure.legends)
    room = figure.get_figwidth() - _ENTRY * entries
    page = re.sub(r"\(page \d+ of \d+\)", lambda found: found[0].replace(" ", "\xa0"), title)
    wide = max(24, int(_LETTERS * room))
    return textwrap.fill(page, wide, break_on_hyphens=False).replace("\xa0", " ")


def tint(colour: str, share: float) -> tuple[float, float, float]:
    """Return a colour mixed with white: opaque, so that it looks the same wherever it lies."""
    red, green, blue = (1 - share + share * part for part in to_rgb(colour))
    return red, green, blue


def wrapped(name: str, width: int) -> str:
    """Break a long name after signs between its words, never inside a word."""
    lines = [""]
    for piece in re.findall(r"[^_\[\], .]*[_\[\], .]?", name):
        if piece and lines[-1] and len(lines[-1]) + len(piece) > width:
            lines.append("")
        lines[-1] += piece
    return "\n".join(line.strip() for line in lines)


def light_grid(axes: Axes, axis: str) -> None:
    """Draw a light grid along one axis, behind the data."""
    axes.grid(True, axis=axis, zorder=0)  # type: ignore[arg-type]
    axes.set_axisbelow(True)


def bare(axes: Axes) -> None:
    """Take away the vertical axis of a panel whose heights mean nothing by themselves."""
    axes.set_yticks([])
    axes.spines["left"].set_visible(False)


def mark(axes: Axes, values: Sequence[float] | None, label: str = "reference") -> None:
    """Draw reference values as dotted vertical lines."""
    for at, value in enumerate(values or ()):
        axes.axvline(value, color=INK, ls=":", lw=1.4, zorder=2, label="" if at else label)
