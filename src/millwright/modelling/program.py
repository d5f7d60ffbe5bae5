"""A model bound to the shape of its data: all that a compiled function depends on.

A `Program` compares and hashes by content. Numbers written in the definitions and the data
themselves are not part of it: they are arguments of the compiled function, so that refitting
with other numbers of the same shapes compiles nothing.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from millwright.language.tree import Node, Number, Operation, Slot, with_children
from millwright.modelling.foreign import Foreign
from millwright.modelling.labelled import base_axis
from millwright.modelling.specification import Part

__all__ = [
    "COUNTS",
    "FACTOR",
    "NUMBERS",
    "ROWS",
    "TAKEN",
    "WEIGHTS",
    "Arguments",
    "Program",
    "lift_numbers",
]

Arguments = Mapping[tuple[str, ...], Any]
"""Arrays that a compiled function takes, by what they are."""

NUMBERS = ("numbers",)
TAKEN = "taken"
FACTOR = "factor"
ROWS = "rows"
COUNTS = "counts"
WEIGHTS = "weights"


@dataclass(frozen=True, kw_only=True)
class Program:
    """The static side of a bound model.

    Attributes
    ----------
    parts
        Definitions in order of use, with numbers replaced by slots.
    columns
        Axes of each data column that is used.
    sizes
        Length of each label set and of each table's rows.
    outcome_axes
        Axes of each outcome.
    labels
        Labels of each label set.
    forms
        Form in which each group prior is sampled; see `parameterisations`.
    foreign
        Registered functions, as they were when the model was bound.
    taken
        Axes of each value taken from the data.
    fresh
        Axes that hold other entries than at the fit: nothing may be reduced over them.
    linear
        Outcomes whose rows are gathered in a matrix, with the weights of their locations.
    counted
        Axes of which each different row is there once, with the number of its copies.
    weighted
        Outcomes whose values have weights, and unknowns whose prior has one: powers of their
        densities. What has the weight 0 does not count.
    """

    parts: tuple[Part, ...]
    columns: tuple[tuple[str, tuple[str, ...]], ...]
    sizes: tuple[tuple[str, int], ...]
    outcome_axes: tuple[tuple[str, tuple[str, ...]], ...]
    labels: tuple[tuple[str, tuple[Any, ...]], ...] = ()
    forms: tuple[tuple[str, str], ...] = ()
    foreign: tuple[Foreign, ...] = ()
    taken: tuple[tuple[str, ...], ...] = ()
    fresh: frozenset[str] = frozenset()
    linear: tuple[tuple[str, tuple[Node, ...]], ...] = ()
    counted: tuple[str, ...] = ()
    weighted: tuple[str, ...] = ()

    @cached_property
    def _hash(self) -> int:
        return hash((self.parts, self.columns, self.sizes, self.labels, self.forms, self.foreign))

    def __hash__(self) -> int:
        return self._hash

    @cached_property
    def by_name(self) -> dict[str, Part]:
        """Unknown, fixed and derived quantities by name."""
        return {part.name: part for part in self.parts if part.kind not in ("outcome", "term")}

    @cached_property
    def column_axes(self) -> dict[str, tuple[str, ...]]:
        """Axes of each data column that is used."""
        return dict(self.columns)

    @cached_property
    def size_of(self) -> dict[str, int]:
        """Length of each axis."""
        return dict(self.sizes)

    @cached_property
    def unknowns(self) -> tuple[Part, ...]:
        """Unknown quantities in order of use."""
        return tuple(part for part in self.parts if part.kind == "unknown")

    @cached_property
    def outcomes(self) -> tuple[Part, ...]:
        """Outcomes in the order of the likelihood."""
        return tuple(part for part in self.parts if part.kind == "outcome")

    @cached_property
    def mapped(self) -> frozenset[str]:
        """Group priors that are sampled in standard coordinates."""
        return frozenset(name for name, form in self.forms if form != "centred")

    @cached_property
    def log_density_terms(self) -> tuple[Part, ...]:
        """Terms added to the log density."""
        return tuple(part for part in self.parts if part.kind == "term")

    @cached_property
    def filled(self) -> dict[str, str]:
        """Columns whose missing values are unknown, with the name of that unknown."""
        return {part.rows_of: part.name for part in self.parts if part.rows_of}

    @cached_property
    def foreign_by_name(self) -> dict[str, Foreign]:
        """Registered functions by name."""
        return {foreign.name: foreign for foreign in self.foreign}

    @property
    def black_boxes(self) -> tuple[str, ...]:
        """Registered functions that have no gradient."""
        return tuple(foreign.name for foreign in self.foreign if foreign.black_box)

    def shape(self, axes: tuple[str, ...]) -> tuple[int, ...]:
        """Return the lengths of `axes`."""
        return tuple(self.size_of[base_axis(axis)] for axis in axes)


def lift_numbers(parts: tuple[Part, ...]) -> tuple[tuple[Part, ...], np.ndarray]:
    """Replace the numbers in the definitions by slots; return the parts and the numbers."""
    values: list[float] = []

    def lifted(part: Part) -> Part:
        arguments = tuple((name, _lift(node, values)) for name, node in part.arguments)
        return replace(part, arguments=arguments)

    result = tuple(lifted(part) for part in parts)
    return result, np.array(values, dtype=float)


def _lift(node: Node, values: list[float]) -> Node:
    match node:
        case Number(value=value, place=place):
            values.append(value)
            return Slot(len(values) - 1, place)
        case Operation(operator="**", operands=(base, Number() as exponent)):
            # A power with a fixed exponent is cheaper and has a finite gradient at zero.
            return replace(node, operands=(_lift(base, values), exponent))
        case _:
            return with_children(node, lambda below: _lift(below, values))
