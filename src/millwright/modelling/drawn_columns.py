"""Outcomes that other definitions read, where whole data sets are drawn.

Where one outcome explains another, a simulated data set is one joint draw: what rests on the first
rests on the values drawn for it, not on those that the data have.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from millwright.errors import ModelError
from millwright.modelling.labelled import is_rows
from millwright.modelling.missing import may_be_missing
from millwright.modelling.program import Program
from millwright.modelling.specification import Part, Specification, reaches
from millwright.modelling.tables import Column, Tables

__all__ = ["in_order_of_use", "outcomes_read", "resting_on", "with_gaps", "with_room"]


def outcomes_read(specification: Specification) -> frozenset[str]:
    """Return the outcomes that other definitions read."""
    parts = specification.parts
    return frozenset(
        part.name
        for part in parts
        if part.kind == "outcome"
        and any(part.name in one.definition.names for one in parts if one.name != part.name)
    )


def with_room(specification: Specification, tables: Tables) -> Tables:
    """Return tables in which such outcomes have a value in every row, to be drawn anew."""
    tables = with_gaps(specification, tables)
    columns = dict(tables.columns)
    for part in _read_parts(specification):
        if part.name in columns:
            columns[part.name] = _filled(specification, part, columns[part.name])
    return replace(tables, columns=columns)


def with_gaps(specification: Specification, tables: Tables, continuous: bool = False) -> Tables:
    """Return tables to which such outcomes are added, all missing, where the data lack them.

    Only `continuous` ones where the missing values are to be unknowns.
    """
    rows = [axis for axis in tables.sizes if is_rows(axis)]
    lacking = [part for part in _read_parts(specification) if part.name not in tables.columns]
    if len(rows) != 1 or not lacking:
        return tables
    added = {
        part.name: Column(
            name=part.name, values=np.full(tables.sizes[rows[0]], np.nan), axes=(rows[0],)
        )
        for part in lacking
        if may_be_missing(part) or (part.event in ("number", "label") and not continuous)
    }
    return replace(tables, columns={**tables.columns, **added})


def _read_parts(specification: Specification) -> list[Part]:
    read = outcomes_read(specification)
    return [part for part in specification.parts if part.name in read]


def _filled(specification: Specification, part: Part, column: Column) -> Column:
    """Return a column whose gaps hold one of its values, or what is one of most distributions."""
    gaps = column.missing()
    if not gaps.any() or column.values.ndim > 1:
        return column
    known = sorted(column.values[~gaps])
    if part.event == "label":
        stated = dict(specification.labels).get(part.name)
        known = known or (list(stated) if isinstance(stated, tuple) else [])
        values = np.array(column.values, dtype=object)
    else:
        known = known or [1.0]
        values = np.array(column.values)
    if known:
        values[gaps] = known[len(known) // 2]
    return replace(column, values=values)


def in_order_of_use(program: Program) -> list[Part]:
    """Return unknowns and outcomes, each after all that it rests on.

    Raises
    ------
    ModelError
        If outcomes rest on each other.
    """
    waiting = [*program.unknowns, *program.outcomes]
    result: list[Part] = []
    while waiting:
        names = [part.name for part in waiting]
        ready = next((one for one in waiting if not _rests_on_any(program, one, names)), None)
        if ready is None:
            raise ModelError(
                f"{' and '.join(f'`{name}`' for name in names)} rest on each other, so that none "
                "of them can be drawn first: whole data sets of this model cannot be simulated."
            )
        waiting.remove(ready)
        result.append(ready)
    return result


def _rests_on_any(program: Program, part: Part, names: list[str]) -> bool:
    nodes = [node for _, node in part.arguments]
    others = [name for name in names if name != part.name]
    return any(reaches(node, name, program.by_name) for node in nodes for name in others)


def resting_on(program: Program, names: frozenset[str]) -> list[str]:
    """Return the derived quantities that rest on some of these outcomes."""
    return [
        part.name
        for part in program.parts
        if part.kind == "derived"
        and any(reaches(part.expression, name, program.by_name) for name in names)
    ]
