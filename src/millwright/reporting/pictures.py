"""Figures as parts of a page, and mathematics as a figure."""

from __future__ import annotations

import base64
import io
import re
from dataclasses import dataclass

from matplotlib.figure import Figure

from millwright.plots.saving import save
from millwright.plots.style import INK, new_figure, styled

__all__ = ["Picture", "mathematics", "picture"]

_DPI = 110


@dataclass(frozen=True, kw_only=True)
class Picture:
    """A figure in a page.

    Attributes
    ----------
    source
        A `data:` address with the whole picture.
    title
        What it shows.
    alternative
        What it shows, with its numbers, for who cannot see it.
    caption
        How to read it.
    """

    source: str
    title: str
    alternative: str
    caption: str = ""


def picture(figure: Figure, numbers: str = "") -> Picture:
    """Return a figure as a picture; its title and caption become text of the page.

    `numbers` says in words what a reader would take from the picture.
    """
    title = " ".join(str(figure.get_label()).split())
    verdict = " ".join(figure.get_suptitle().split()).removeprefix(title).strip()
    caption = figure.get_supxlabel()
    if figure._suptitle is not None:  # type: ignore[attr-defined]
        figure.suptitle("")
    figure.supxlabel("")
    told = [words.rstrip(".") for words in (title, verdict, numbers) if words]
    caption = " ".join(f"{verdict} {caption}".split())
    return Picture(
        source=_address(figure), title=title, alternative=". ".join(told), caption=caption
    )


def _address(figure: Figure) -> str:
    content = io.BytesIO()
    save(figure, content, _DPI)
    text = base64.b64encode(content.getvalue()).decode("ascii")
    return f"data:image/png;base64,{text}"


def mathematics(latex: str) -> Picture | None:
    """Draw a LaTeX `aligned` environment, one line under the other.

    None where a line holds something that cannot be drawn; the page then shows the source.
    """
    body = re.sub(r"\\(begin|end)\{aligned\}", "", latex)
    lines = [line.replace("&", "").strip() for line in body.split("\\\\")]
    lines = [line for line in lines if line]
    with styled():
        figure = new_figure((11.0, 0.42 * len(lines) + 0.2))
        figure.set_layout_engine("none")
        for row, line in enumerate(lines):
            height = 1 - (row + 0.6) / (len(lines) + 0.2)
            figure.text(
                0.01, height, f"${line}$", fontsize=13, color=INK, va="center", parse_math=True
            )
        try:
            return Picture(
                source=_address(figure),
                title="The model in mathematics",
                alternative=f"The model in mathematics: {latex}",
            )
        except ValueError:
            return None
