"""The expression tree: what a definition means, however it was written.

Nodes are immutable and compare by structure; the place in the text is kept for messages and
left out of comparisons, so that a definition written as a function equals its printed text.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace

__all__ = [
    "Call",
    "Label",
    "Listed",
    "Lookup",
    "Name",
    "Node",
    "Number",
    "Operation",
    "Span",
    "Slot",
    "Taken",
    "children",
    "constant",
    "walk",
    "with_children",
]


@dataclass(frozen=True, slots=True)
class Span:
    """Half-open range of character positions in a definition's text."""

    start: int
    end: int


@dataclass(frozen=True, slots=True)
class Number:
    """A literal number."""

    value: float
    place: Span | None = field(default=None, compare=False)


@dataclass(frozen=True, slots=True)
class Slot:
    """A number that has become an argument of the compiled function, by its position there."""

    index: int
    place: Span | None = field(default=None, compare=False)


@dataclass(frozen=True, slots=True)
class Taken:
    """A value taken from the data once, by its position among those; `text` says which."""

    index: int
    text: str = field(default="", compare=False)
    place: Span | None = field(default=None, compare=False)


@dataclass(frozen=True, slots=True)
class Name:
    """An unknown, a derived quantity, a data column or a label set."""

    name: str
    place: Span | None = field(default=None, compare=False)


@dataclass(frozen=True, slots=True)
class Label:
    """A literal label inside brackets."""

    value: str
    place: Span | None = field(default=None, compare=False)


@dataclass(frozen=True, slots=True)
class Operation:
    """An operator with its operands: arithmetic, comparison, `and`, `or`, `not`, `@`."""

    operator: str
    operands: tuple[Node, ...]
    place: Span | None = field(default=None, compare=False)


@dataclass(frozen=True, slots=True)
class Call:
    """A call of a known function: a distribution or a mathematical function."""

    function: str
    arguments: tuple[Node, ...]
    keywords: tuple[tuple[str, Node], ...] = ()
    place: Span | None = field(default=None, compare=False)


@dataclass(frozen=True, slots=True)
class Lookup:
    """`base[label, ...]`: the values of `base` at labels, or at the labels a column holds."""

    base: Node
    labels: tuple[Node, ...]
    place: Span | None = field(default=None, compare=False)


@dataclass(frozen=True, slots=True)
class Listed:
    """Values written one after the other, for an argument that takes a vector or a matrix."""

    items: tuple[Node, ...]
    place: Span | None = field(default=None, compare=False)


Node = Number | Slot | Taken | Name | Label | Operation | Call | Lookup | Listed


def children(node: Node) -> tuple[Node, ...]:
    """Return the nodes directly below `node`."""
    match node:
        case Operation(operands=operands):
            return operands
        case Call(arguments=arguments, keywords=keywords):
            return arguments + tuple(value for _, value in keywords)
        case Lookup(base=base, labels=labels):
            return (base, *labels)
        case Listed(items=items):
            return items
        case _:
            return ()


def with_children(node: Node, change: Callable[[Node], Node]) -> Node:
    """Return `node` with what stands directly below it changed; labels of a lookup stay."""
    match node:
        case Operation(operands=operands):
            return replace(node, operands=tuple(map(change, operands)))
        case Call(arguments=arguments, keywords=keywords):
            return replace(
                node,
                arguments=tuple(map(change, arguments)),
                keywords=tuple((name, change(value)) for name, value in keywords),
            )
        case Lookup(base=base):
            return replace(node, base=change(base))
        case Listed(items=items):
            return replace(node, items=tuple(map(change, items)))
        case _:
            return node


def walk(node: Node) -> Iterator[Node]:
    """Yield `node` and every node below it, depth first, from left to right."""
    yield node
    for child in children(node):
        yield from walk(child)


def constant(node: Node) -> float | None:
    """Return the number that is written at a node, with its sign; None for anything else."""
    if isinstance(node, Number):
        return float(node.value)
    if isinstance(node, Operation) and node.operator == "negative":
        inner = constant(node.operands[0])
        return None if inner is None else -inner
    return None
