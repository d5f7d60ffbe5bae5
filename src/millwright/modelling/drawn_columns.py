"""Outcomes that other definitions read, where whole data sets are drawn.

Where one outcome explains another, a simulated data set is one joint draw: what rests on the first
rests on the values drawn for it, not on those that the data have.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace

import numpy as np

from millwright.errors import ModelError
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import DRAW, Labelled, is_rows
from millwright.modelling.missing import may_be_missing
from millwright.modelling.program import Program
from millwright.modelling.specification import Part, Specification, reaches
from millwright.modelling.tables import Column, Tables

__all__ = [
    "in_order_of_use",
    "outcomes_read",
    "read_from_draws",
    "resting_on",
    "with_gaps",
    "with_room",
]


def outcomes_read(specification: Specification) -> frozenset[str]:
    """Return the outcomes that other definitions read, by name or in a matrix of columns."""
    parts = specification.parts
    return frozenset(
        part.name
        for part in parts
        if part.kind == "outcome"
        and any(
            _read_as(specification, part.name) & set(one.definition.names)
            for one in parts
            if one.name != part.name
        )
    )


def _read_as(specification: Specification, name: str) -> set[str]:
    return {name, *_matrices_with(specification, name)}


def _matrices_with(specification: Specification, name: str) -> dict[str, int]:
    """Return the matrices that an outcome's column is one column of, and which one."""
    named = dict(specification.columns)
    own = named.get(name, name)
    return {
        alias: of.index(own) for alias, of in named.items() if isinstance(of, tuple) and own in of
    }


def read_from_draws(evaluation: Evaluation, specification: Specification, name: str) -> None:
    """Let the matrices that hold an outcome's column hold what was drawn of it."""
    drawn = evaluation.drawn[name].values
    for matrix, at in _matrices_with(specification, name).items():
        if matrix not in evaluation.program.column_axes:
            continue
        whole = evaluation.column(matrix)
        labels = tuple(axis for axis in whole.axes if axis != DRAW)
        values = np.array(np.broadcast_to(whole.values, (len(drawn), *whole.values.shape[-2:])))
        values[..., at] = drawn
        evaluation.drawn[matrix] = Labelled(values, (DRAW, *labels))


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
        if may_be_missing(part) or (not continuous and _may_be_empty(specification, part))
    }
    return replace(tables, columns={**tables.columns, **added})


def _may_be_empty(specification: Specification, part: Part) -> bool:
    """Whether a column without any value can be drawn; its labels must be stated."""
    stated = dict(specification.labels).get(part.name)
    return part.event == "number" or (part.event == "label" and isinstance(stated, tuple))


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


def in_order_of_use(specification: Specification, program: Program) -> list[Part]:
    """Return unknowns and outcomes, each after all that it rests on.

    Raises
    ------
    ModelError
        If outcomes rest on each other.
    """
    waiting = [*program.unknowns, *program.outcomes]
    names = {part.name: _read_as(specification, part.name) for part in waiting}
    result: list[Part] = []
    while waiting:
        ready = next((one for one in waiting if not _waits(program, one, waiting, names)), None)
        if ready is None:
            circle = " and ".join(f"`{part.name}`" for part in waiting)
            raise ModelError(
                f"{circle} rest on each other, so that none of them can be drawn first: whole "
                "data sets of this model cannot be simulated."
            )
        waiting.remove(ready)
        result.append(ready)
    return result


def _waits(program: Program, part: Part, waiting: list[Part], names: dict[str, set[str]]) -> bool:
    """Whether a part rests on another that is not drawn yet."""
    others = set().union(*(names[one.name] for one in waiting if one.name != part.name))
    return any(
        reaches(node, name, program.by_name) for _, node in part.arguments for name in others
    )


def resting_on(program: Program, names: Collection[str]) -> list[str]:
    """Return the derived quantities that rest on some of these columns."""
    return [
        part.name
        for part in program.parts
        if part.kind == "derived"
        and any(reaches(part.expression, name, program.by_name) for name in names)
    ]
