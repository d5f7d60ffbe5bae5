"""Figures that commands write to files."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from millwright.errors import ArgumentError, StorageError, nearest

if TYPE_CHECKING:
    from matplotlib.figure import Figure

__all__ = ["check_figure", "write_figure"]


def check_figure(name: str, known: tuple[str, ...]) -> None:
    """Refuse the name of a figure that there is not."""
    if name not in known:
        raise ArgumentError(
            f"There is no figure `{name}`.{nearest(name, known)} Figures: {', '.join(known)}."
        )


def write_figure(figure: Figure, place: Path) -> None:
    """Write a figure: PNG, SVG or PDF by the ending.

    Raises
    ------
    StorageError
        If it cannot be written.
    """
    from millwright.plots.saving import save

    try:
        save(figure, place)
    except OSError as error:
        raise StorageError(f"{place} cannot be written: {error.strerror or error}.") from error
    except ValueError as error:
        # Matplotlib's word for an ending that it does not know.
        raise StorageError(f"{place} cannot be written: {error}.") from error
