"""Where a figure's panels come from: a figure of our own, or axes that the user gives."""

from __future__ import annotations

from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from millwright.errors import ArgumentError
from millwright.plots.style import new_figure

__all__ = ["Size", "panel_grid", "panels_for", "single_panel"]

Size = tuple[float, float]
_HIGHEST = 8.0


def panel_grid(count: int, size: Size | None) -> tuple[Figure, list[Axes]]:
    """Return a figure with `count` panels, each with few ticks, since long numbers collide."""
    columns = 2 if count in (2, 4) else min(3, count)
    rows = -(-count // columns)
    figure = new_figure(size, (12.8, min(_HIGHEST, 1.8 + 2.4 * rows)))
    panels = list(figure.subplots(rows, columns, squeeze=False).ravel())
    for axes in panels[:count]:
        axes.xaxis.set_major_locator(MaxNLocator(5))
    for axes in panels[count:]:
        axes.set_visible(False)
    return figure, panels[:count]


def panels_for(count: int, size: Size | None, axes: Axes | None) -> tuple[Figure, list[Axes]]:
    """Return the panels of a new figure, or the one that was given.

    Raises
    ------
    ArgumentError
        If axes are given for more than one panel.
    """
    if axes is None:
        return panel_grid(count, size)
    _check(axes)
    if count != 1:
        raise ArgumentError(
            f"One axes takes one quantity, and {count} are asked for: choose one by name."
        )
    return _figure_of(axes), [axes]


def single_panel(size: Size, axes: Axes | None) -> tuple[Figure, Axes]:
    """Return the panel of a figure that has one."""
    if axes is None:
        figure = new_figure(size)
        return figure, figure.subplots()
    _check(axes)
    return _figure_of(axes), axes


def _check(axes: object) -> None:
    if not isinstance(axes, Axes):
        raise ArgumentError(f"`axes` must be a Matplotlib Axes, not {type(axes).__name__}.")


def _figure_of(axes: Axes) -> Figure:
    figure = axes.get_figure(root=True)
    if figure is None:
        raise ArgumentError("The `axes` given belong to no figure.")
    return figure
