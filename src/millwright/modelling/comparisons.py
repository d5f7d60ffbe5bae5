"""Unknowns whose order with something decides, as in `where(day < switch, early, late)`.

Where such an unknown passes what it is compared with, the density may jump, and a gradient does
not show jumps.
"""

from __future__ import annotations

from collections.abc import Iterator

from millwright.language.tree import Name, Node, Operation, walk
from millwright.modelling.program import Program
from millwright.modelling.specification import reaches

__all__ = ["compared_unknowns"]

_ORDER = ("<", "<=", ">", ">=", "==", "!=")


def compared_unknowns(program: Program) -> tuple[str, ...]:
    """Return the unknowns that comparisons in the density rest on, in the order of the model."""
    compared = [
        node
        for node in _in_the_density(program)
        if isinstance(node, Operation) and node.operator in _ORDER
    ]
    return tuple(
        part.name
        for part in program.unknowns
        if any(reaches(node, part.name, program.by_name) for node in compared)
    )


def _in_the_density(program: Program) -> Iterator[Node]:
    """Yield what priors, likelihood and terms are made of, through derived quantities too."""
    waiting = [
        node
        for part in program.parts
        if part.kind in ("unknown", "outcome", "term")
        for _, node in part.arguments
    ]
    seen: set[str] = set()
    while waiting:
        for node in walk(waiting.pop()):
            yield node
            part = program.by_name.get(node.name) if isinstance(node, Name) else None
            if part is not None and part.kind == "derived" and part.name not in seen:
                seen.add(part.name)
                waiting.append(part.expression)
