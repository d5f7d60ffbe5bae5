"""Which unknowns are middles of groups, and where they stand among the unknowns.

A middle is the location of a group prior, one unknown number without bounds. It is placed right
before its groups, after all else that they rest on; see `anchors`.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

from millwright.language.tree import Name
from millwright.modelling.parameterisations import informed_by_constants
from millwright.modelling.program import Program
from millwright.modelling.specification import Part, reaches

__all__ = ["COEFFICIENTS", "in_order", "middles"]

COEFFICIENTS = ("cauchy", "gumbel", "laplace", "logistic", "normal", "skew_normal", "student_t")
"""Shapes of priors that coefficients have, cut or not."""


@lru_cache(maxsize=64)
def middles(program: Program) -> Mapping[str, str]:
    """Return each middle with the group prior whose location it is."""
    found: dict[str, str] = {}
    for name in informed_by_constants(program):
        group = program.by_name[name]
        location = dict(group.arguments).get("location")
        if group.event != "number" or not isinstance(location, Name):
            continue
        middle = program.by_name.get(location.name)
        if middle is None or not _is_free_number(middle):
            continue
        if _is_read(program, group) and not _is_read_elsewhere(program, middle, group):
            found[middle.name] = name
    return found


def _is_free_number(part: Part) -> bool:
    cut = {name for name, _ in part.arguments} & {"low", "high"}
    plain = part.kind == "unknown" and part.family in COEFFICIENTS and not part.rows_of
    return plain and not part.per and not cut


def _is_read(program: Program, group: Part) -> bool:
    """Whether an outcome reads a group prior, so that the data say something of it."""
    nodes = [node for part in program.outcomes for _, node in part.arguments]
    return any(reaches(node, group.name, program.by_name) for node in nodes)


def _is_read_elsewhere(program: Program, middle: Part, group: Part) -> bool:
    """Whether another unknown or an outcome rests on a middle, or the group's own spread."""
    others = [part for part in (*program.unknowns, *program.outcomes) if part != group]
    nodes = [node for part in others for _, node in part.arguments]
    nodes += [node for name, node in group.arguments if name != "location"]
    return any(reaches(node, middle.name, program.by_name) for node in nodes)


def in_order(program: Program) -> list[Part]:
    """Return the unknowns as they are placed: a middle right before its groups."""
    moved = middles(program)
    following = {group: middle for middle, group in moved.items()}
    result: list[Part] = []
    for part in program.unknowns:
        if part.name in moved:
            continue
        if part.name in following:
            result.append(program.by_name[following[part.name]])
        result.append(part)
    return result
