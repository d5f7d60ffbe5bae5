"""How the demos speak, and where their figures go."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from matplotlib.figure import Figure

from millwright.plots.saving import save

__all__ = ["Teller", "write_figure"]


@dataclass(frozen=True)
class Teller:
    """How a demo speaks: a heading for each step, a remark, and output as it is."""

    heading: Callable[[str], None]
    remark: Callable[[str], None]
    output: Callable[[str], None]


def write_figure(figure: Figure, folder: Path, name: str, tell: Teller) -> None:
    """Write a figure and say where."""
    path = folder / name
    save(figure, path)
    tell.remark(f"Figure: {path}")
