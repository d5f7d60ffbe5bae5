"""Arrays with named axes, and the one rule by which they combine.

An axis is a label set (a plain text), the rows of a table (`RowAxis`), or `draw` (always first,
when a computation runs over posterior or prior draws). Quantities combine by axis name, never by
length.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from millwright.distributions.mathematics import Array

__all__ = [
    "DRAW",
    "LIST",
    "Labelled",
    "RowAxis",
    "aligned",
    "base_axis",
    "is_rows",
    "row_axis",
    "spread_over",
    "twin",
    "union_axes",
]

DRAW = "draw"
LIST = "written list"
"""Axis of a list written in a definition, until an argument gives it a label set."""


class RowAxis(str):
    """The axis of a table's rows. What an axis is called says nothing of its kind."""

    __slots__ = ()

    @property
    def table(self) -> str:
        """Name of the table, or '' for the only one."""
        return str(self).removeprefix("row").removeprefix(" of ")


def row_axis(table: str = "") -> RowAxis:
    """Return the axis of a table's rows: `row` or `row of upper`, which names no label set."""
    return RowAxis(f"row of {table}" if table else "row")


def is_rows(axis: str) -> bool:
    """Whether an axis is that of a table's rows, or the second one of a matrix over rows."""
    return isinstance(axis, RowAxis)


def twin(axis: str) -> str:
    """Return the name of a label set's second axis, that of the columns of a square matrix."""
    return type(axis)(axis + "'")


def base_axis(axis: str) -> str:
    """Return the label set of an axis: that of its twin, or itself."""
    return type(axis)(axis.removesuffix("'"))


class Labelled(NamedTuple):
    """An array with the name of each axis."""

    values: Array
    axes: tuple[str, ...] = ()

    @property
    def labels(self) -> tuple[str, ...]:
        """The axes without `draw`."""
        return tuple(axis for axis in self.axes if axis != DRAW)


def union_axes(items: Sequence[Labelled]) -> tuple[str, ...]:
    """Return every axis of `items` once, `draw` first, the rest in order of appearance."""
    found = dict.fromkeys(axis for item in items for axis in item.axes)
    rest = tuple(axis for axis in found if axis != DRAW)
    return (DRAW, *rest) if DRAW in found else rest


def spread_over(item: Labelled, axes: tuple[str, ...]) -> Array:
    """Return the values of `item` shaped to broadcast over `axes`, which hold all of its own."""
    if not item.axes or item.axes == axes:
        return item.values
    order = sorted(range(len(item.axes)), key=lambda at: axes.index(item.axes[at]))
    values = item.values
    if order != list(range(len(order))):
        values = values.transpose(order)
    present = set(item.axes)
    return values[tuple(slice(None) if axis in present else None for axis in axes)]


def aligned(items: Sequence[Labelled]) -> tuple[tuple[str, ...], list[Array]]:
    """Return the union of the axes and each item's values shaped to broadcast over it."""
    axes = union_axes(items)
    return axes, [spread_over(item, axes) for item in items]


def full(item: Labelled, axes: tuple[str, ...], shape: tuple[int, ...]) -> np.ndarray:
    """Return the values of `item` broadcast to `shape` over `axes` (NumPy)."""
    return np.broadcast_to(spread_over(item, axes), shape)
