"""Evaluation of expression trees on labelled arrays, under NumPy or JAX.

One evaluation holds the values known at its start (unknowns, possibly with an axis of draws)
and computes each further definition at most once, when it is asked for.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from millwright.distributions.mathematics import Mathematics
from millwright.errors import ModelError
from millwright.language.tree import (
    Call,
    Node,
)
from millwright.modelling.clashes import axis_words
from millwright.modelling.labelled import (
    DRAW,
    LIST,
    Labelled,
    is_rows,
    spread_over,
)
from millwright.modelling.program import Arguments, Program
from millwright.modelling.specification import Part
from millwright.modelling.walk import Walk

__all__ = ["Evaluation"]


class Evaluation:
    """Values of a program's quantities.

    Parameters
    ----------
    m
        The array library.
    program
        The bound model.
    arguments
        Data and numbers.
    known
        Values known from the start, usually the unknowns.
    """

    def __init__(
        self,
        m: Mathematics,
        program: Program,
        arguments: Arguments,
        known: Mapping[str, Labelled] | None = None,
    ) -> None:
        self.m = m
        self.program = program
        self.arguments = arguments
        self.values: dict[str, Labelled] = dict(known or {})
        self.drawn: dict[str, Labelled] = {}
        """Outcomes that were drawn, in place of the columns of the data."""

    def get(self, name: str) -> Labelled:
        """Return the value of an unknown, fixed or derived quantity."""
        if name not in self.values:
            part = self.program.by_name[name]
            self.values[name] = self._checked(part, self.expression(part.expression, part))
        return self.values[name]

    def parameters(self, part: Part) -> dict[str, Labelled]:
        """Return the arguments of a distribution by name."""
        if part.rows_of:
            return self._at_gaps(part)
        return {name: self.expression(node, part) for name, node in part.arguments}

    def _at_gaps(self, part: Part) -> dict[str, Labelled]:
        """Return the arguments of a column's distribution at its missing rows."""
        rows = replace(part, per=(), kind="outcome", name=part.rows_of)
        gaps = self.arguments["gaps", part.rows_of]
        result = {}
        for name, node in part.arguments:
            item = self.expression(node, rows)
            axes = tuple(part.per[0] if is_rows(axis) else axis for axis in item.axes)
            values = item.values
            if axes != item.axes:
                at = tuple(gaps if is_rows(a) else slice(None) for a in item.axes)
                values = values[at]
            result[name] = Labelled(values, axes)
        return result

    def column(self, name: str) -> Labelled:
        """Return a data column, with unknowns where it has gaps."""
        if name in self.drawn:
            return self.drawn[name]
        axes = self.program.column_axes[name]
        if name not in self.program.filled:
            return Labelled(self.arguments["column", name], axes)
        new = self.get(self.program.filled[name])
        lead = (DRAW,) if DRAW in new.axes else ()
        known = self.m.asarray(self.arguments["partly", name])
        values = self.m.filled(known, self.arguments["gaps", name], new.values)
        return Labelled(values, (*lead, *axes))

    def expression(self, node: Node, part: Part) -> Labelled:
        """Return the value of an expression that stands in the definition `part`."""
        return Walk(self, part).visit(node)

    def centre_and_scale(self, node: Call, part: Part) -> tuple[Labelled, Labelled]:
        """Return what `standardise(...)` in the definition `part` subtracts and divides by."""
        walk = Walk(self, part)
        return walk.centre_and_scale(walk.visit(node.arguments[0]), node)

    def size(self, axis: str) -> int:
        """Return the length of an axis."""
        return self.program.shape((axis,))[0]

    def _checked(self, part: Part, value: Labelled) -> Labelled:
        """Spread a derived quantity over the label sets of its `per`."""
        if LIST in value.axes:
            raise ModelError(
                part.definition.message("a quantity cannot be a list; give it labels")
            )
        extra = [axis for axis in value.labels if axis not in part.per]
        if not part.per:
            return value
        if extra:
            raise ModelError(
                part.definition.message(
                    f"it has one value for each {axis_words(extra[0])}, which `per "
                    f"{', '.join(part.per)}` does not allow"
                )
            )
        axes = (DRAW, *part.per) if DRAW in value.axes else part.per
        lead = value.values.shape[:1] if DRAW in value.axes else ()
        zeros = self.m.zeros(lead + self.program.shape(part.per))
        return Labelled(spread_over(value, axes) + zeros, axes)
