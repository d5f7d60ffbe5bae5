"""Unknowns whose order with something decides, as in `where(day < switch, early, late)`.

Where such an unknown passes what it is compared with, the density may jump, and a gradient does
not show jumps.
"""

from __future__ import annotations

from millwright.language.tree import Operation, walk
from millwright.modelling.program import Program
from millwright.modelling.specification import reaches

__all__ = ["compared_unknowns"]

_ORDER = ("<", "<=", ">", ">=", "==", "!=")


def compared_unknowns(program: Program) -> tuple[str, ...]:
    """Return the unknowns that comparisons rest on, in the order of the model."""
    nodes = [
        node
        for part in program.parts
        for _, top in part.arguments
        for node in walk(top)
        if isinstance(node, Operation) and node.operator in _ORDER
    ]
    return tuple(
        part.name
        for part in program.unknowns
        if any(reaches(node, part.name, program.by_name) for node in nodes)
    )
