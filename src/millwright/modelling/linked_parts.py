"""Links handed on in whole models: of derived quantities too, and of what is taken from 1."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from millwright.distributions.family import Distribution
from millwright.distributions.registry import DISTRIBUTIONS
from millwright.language.tree import Call, Name, Node, Number, Operation, walk, with_children
from millwright.language.vocabulary import FUNCTIONS
from millwright.modelling.links import through_link
from millwright.modelling.specification import Part

__all__ = ["through_links"]


def through_links(parts: tuple[Part, ...]) -> tuple[Part, ...]:
    """Return the parts with links handed on that stand in a derived quantity or are taken from 1.

    A chance near 1 has no digits left when it is taken from 1; one minus an inverse link is the
    link of the negative.
    """
    derived = {
        part.name: part.expression
        for part in parts
        if part.kind == "derived" and not part.per and _quick(part.expression)
    }

    def linked(part: Part) -> Part:
        arguments = dict(part.arguments)
        if part.family in DISTRIBUTIONS:
            family = DISTRIBUTIONS[part.family]
            arguments = dict(
                _named_link(family, name, node, derived) for name, node in arguments.items()
            )
        changed = {name: _exact(node, derived) for name, node in arguments.items()}
        return replace(part, arguments=tuple(changed.items()))

    return tuple(map(linked, parts))


def _quick(node: Node) -> bool:
    """Whether it may be computed once more: functions of the user's may take long."""
    return all(not isinstance(below, Call) or below.function in FUNCTIONS for below in walk(node))


def _named_link(
    family: Distribution, name: str, node: Node, derived: Mapping[str, Node]
) -> tuple[str, Node]:
    """Return an argument without the link of the derived quantity that it is."""
    if not isinstance(node, Name) or node.name not in derived:
        return name, node
    other, inner = through_link(family, name, derived[node.name])
    # Messages about it point to where it stands, not into the derived quantity.
    return (name, node) if other == name else (other, replace(inner, place=node.place))


def _exact(node: Node, derived: Mapping[str, Node]) -> Node:
    """Return a node in which nothing that is next to 1 is taken from 1."""
    match node:
        case Operation("-", (Number(1), taken)):
            whole = derived.get(taken.name, taken) if isinstance(taken, Name) else taken
            match whole:
                case Call("expit" | "normal_cdf" as link, (inner,)):
                    mirrored = Operation("negative", (_exact(inner, derived),))
                    return Call(link, (mirrored,), place=node.place)
    return with_children(node, lambda below: _exact(below, derived))
