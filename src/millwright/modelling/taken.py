"""Values that a model takes from its data once, such as `mean(hours)`, and keeps.

What is reduced over rows and rests on no unknown is a number of the data that the model was fitted
to. It must stay that number when the model meets new rows, so it is worked out when the model is
bound for a fit, becomes an argument of the compiled functions, and is handed on to every later
binding of the same fit.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from millwright.distributions import on_numpy
from millwright.errors import DataError, ModelError
from millwright.language.printing import text_of
from millwright.language.tree import (
    Call,
    Listed,
    Lookup,
    Name,
    Node,
    Operation,
    Taken,
    children,
    walk,
)
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.foreign import foreign_function
from millwright.modelling.labelled import Labelled, is_rows
from millwright.modelling.program import TAKEN, Program
from millwright.modelling.specification import Part

__all__ = ["TakenValue", "take_values", "taken_arguments"]

_REDUCING = ("sum", "mean", "sd", "dot")
Key = tuple[str, str, str]


@dataclass(frozen=True)
class TakenValue:
    """One value taken from the data.

    Attributes
    ----------
    part
        The definition in which it stands.
    text
        What was worked out, as text of the model language.
    item
        The value, with the labels of matrix columns if it has one for each.
    """

    part: str
    text: str
    item: Labelled


def take_values(
    parts: tuple[Part, ...],
    program: Program,
    arguments: Any,
    gaps: tuple[str, ...],
    known: Mapping[Key, TakenValue] | None,
) -> tuple[tuple[Part, ...], dict[Key, TakenValue]]:
    """Replace what is reduced over data alone by values taken from the data.

    Parameters
    ----------
    program, arguments
        The model with these data; used unless the values are known.
    gaps
        Columns with unknown values.
    known
        Values of the fit, for new rows.

    Returns
    -------
    The definitions with `Taken` nodes, and the values in the order of their positions.
    """
    taker = _Taker(program, arguments, frozenset(gaps), known)
    done = tuple(
        replace(part, arguments=tuple((n, taker.rewritten(e, part)) for n, e in part.arguments))
        for part in parts
    )
    return done, dict(known) if known is not None else taker.found


class _Taker:
    def __init__(
        self,
        program: Program,
        arguments: Any,
        gaps: frozenset[str],
        known: Mapping[Key, TakenValue] | None,
    ) -> None:
        self.program = program
        self.gaps = gaps
        self.known = known
        self.found: dict[Key, TakenValue] = {}
        self.evaluation = Evaluation(on_numpy, program, arguments)

    def rewritten(self, node: Node, part: Part) -> Node:
        if isinstance(node, Call) and node.function == "standardise":
            return self._standardised(node, part)
        if self._reduces(node):
            place = self._taken(node, part)
            if place is not None:
                return place
        return _with_children(node, [self.rewritten(child, part) for child in _inner(node)])

    def _reduces(self, node: Node) -> bool:
        if isinstance(node, Operation):
            return node.operator == "@"
        if not isinstance(node, Call):
            return False
        own = self.program.foreign_by_name.get(node.function) or foreign_function(node.function)
        if own is not None:
            return own.gives == "number" and not own.missing
        return node.function in _REDUCING

    def _standardised(self, node: Call, part: Part) -> Node:
        """Write `standardise(x)` of data as `(x - mean) / sd` with both taken from the data."""
        inner = self.rewritten(node.arguments[0], part)
        mean = self._taken(node, part, "mean")
        scale = self._taken(node, part, "sd")
        if mean is None or scale is None:
            return replace(node, arguments=(inner,))
        centred = Operation("-", (inner, mean), node.place)
        return Operation("/", (centred, scale), node.place)

    def _taken(self, node: Node, part: Part, of: str = "") -> Taken | None:
        key = (part.name, text_of(node), of)
        if self.known is not None:
            if key not in self.known:
                return None
            return Taken(list(self.known).index(key), text_of(node), node.place)
        if key not in self.found:
            if not self._settled(node):
                return None
            item = self._value(node, part, of)
            if any(map(is_rows, item.axes)):
                return None
            text = f"{of} of {text_of(node.arguments[0])}" if of else text_of(node)  # type: ignore[union-attr]
            self.found[key] = TakenValue(part.name, text, item)
        return Taken(list(self.found).index(key), text_of(node), node.place)

    def _value(self, node: Node, part: Part, of: str) -> Labelled:
        with np.errstate(all="ignore"):
            if of and isinstance(node, Call):
                item = self.evaluation.centre_and_scale(node, part)[of == "sd"]
            else:
                item = self.evaluation.expression(node, part)
        values = np.asarray(item.values, dtype=float)
        if not np.isfinite(values).all():
            raise DataError(
                part.definition.message(
                    f"`{text_of(node)}` is not a finite number for these data", node
                )
            )
        if of == "sd" and not np.all(values > 0):
            raise ModelError(
                part.definition.message(
                    "what is standardised does not vary, so its sd is no scale", node
                )
            )
        return Labelled(values, item.axes)

    def _settled(self, node: Node) -> bool:
        """Whether an expression rests on data, and on nothing unknown."""
        names = list(self._names(node, set()))
        return (
            bool(names)
            and not any(
                name in self.gaps or (part is not None and part.kind == "unknown")
                for name, part in names
            )
            and any(part is None for _, part in names)
        )

    def _names(self, node: Node, seen: set[str]) -> Iterator[tuple[str, Part | None]]:
        """Yield the columns (without a definition) and definitions that an expression rests on."""
        for inner in walk(node):
            if not isinstance(inner, Name) or inner.name in seen:
                continue
            seen.add(inner.name)
            part = self.program.by_name.get(inner.name)
            yield inner.name, part
            if part is not None and part.kind == "derived":
                yield from self._names(part.expression, seen)


def _inner(node: Node) -> tuple[Node, ...]:
    """Return the nodes below `node` that hold values; labels in brackets stay as they are."""
    return (node.base,) if isinstance(node, Lookup) else children(node)


def _with_children(node: Node, new: list[Node]) -> Node:
    match node:
        case Operation():
            return replace(node, operands=tuple(new))
        case Call(arguments=arguments, keywords=keywords):
            count = len(arguments)
            named = tuple(
                (name, value) for (name, _), value in zip(keywords, new[count:], strict=True)
            )
            return replace(node, arguments=tuple(new[:count]), keywords=named)
        case Lookup():
            return replace(node, base=new[0])
        case Listed():
            return replace(node, items=tuple(new))
        case _:
            return node


def taken_arguments(found: Mapping[Key, TakenValue]) -> dict[tuple[str, ...], np.ndarray]:
    """Return the values as arguments of compiled functions."""
    return {
        (TAKEN, str(at)): np.asarray(value.item.values) for at, value in enumerate(found.values())
    }
