"""Missing values of predictors: one unknown for each, with the column's own distribution.

A column that other definitions use and that the likelihood gives a distribution may have gaps.
Its distribution then counts over all rows, the unknown ones among them.
"""

from __future__ import annotations

from graphlib import TopologicalSorter

import numpy as np

from millwright.distributions.family import Family
from millwright.errors import ModelError
from millwright.language.tree import Name, walk
from millwright.modelling.arguments import family_of
from millwright.modelling.specification import Part, Specification
from millwright.modelling.tables import Tables

__all__ = [
    "columns_with_gaps",
    "may_be_missing",
    "missing_name",
    "with_missing_values",
    "without_gaps",
]


def missing_name(column: str) -> str:
    """Return the name of the unknown, and of its label set, for a column's gaps."""
    return f"{column}_missing"


def columns_with_gaps(
    specification: Specification, tables: Tables, even_all: bool = False
) -> tuple[str, ...]:
    """Return the outcomes that other definitions use and that miss some values.

    Those that miss all are among them only where `even_all` says so: a fit could say nothing of
    them.

    Raises
    ------
    ModelError
        If the missing values cannot be continuous unknowns.
    """
    found = []
    for part in specification.parts:
        column = tables.columns.get(part.name)
        if part.kind != "outcome" or column is None or len(column.axes) != 1:
            continue
        if not _used_elsewhere(part.name, specification):
            continue
        missing = column.missing()
        if missing.any() and (even_all or not missing.all()):
            _check_continuous(part, int(missing.sum()))
            found.append(part.name)
    return tuple(found)


def _used_elsewhere(name: str, specification: Specification) -> bool:
    return any(name in part.definition.names for part in specification.parts if part.name != name)


def may_be_missing(part: Part) -> bool:
    """Whether missing values of an outcome can be unknowns: continuous numbers, one a row."""
    family = family_of(part.family, part.arguments)
    return isinstance(family, Family) and not family.whole


def _check_continuous(part: Part, count: int) -> None:
    if not may_be_missing(part):
        raise ModelError(
            part.definition.message(
                f"`{part.name}` misses {count} values, which would be unknowns; an unknown needs "
                "a continuous distribution of numbers"
            )
        )


def with_missing_values(parts: tuple[Part, ...], columns: tuple[str, ...]) -> tuple[Part, ...]:
    """Add an unknown for the gaps of each column, and put all parts into an order of use.

    Raises
    ------
    ModelError
        If a column's distribution rests on its own values.
    """
    outcomes = {part.name: part for part in parts if part.kind == "outcome"}
    added = {column: _unseen(outcomes[column], column) for column in columns}
    rest = [part for part in parts if part.kind not in ("outcome", "term")]
    by_name = {part.name: part for part in (*rest, *added.values())}
    uses = {name: _uses(part, by_name, added) for name, part in by_name.items()}
    for column, part in added.items():
        if part.name in uses[part.name]:
            raise ModelError(
                part.definition.message(f"the distribution of `{column}` rests on itself")
            )
    order = [by_name[name] for name in TopologicalSorter(uses).static_order()]
    return (*order, *(part for part in parts if part.kind in ("outcome", "term")))


def _unseen(outcome: Part, column: str) -> Part:
    name = missing_name(column)
    inner = (outcome.family, frozenset(argument for argument, _ in outcome.arguments))
    return Part(
        name=name,
        kind="unknown",
        family=("unseen", inner),
        arguments=outcome.arguments,
        per=(name,),
        definition=outcome.definition,
        rows_of=column,
    )


def _uses(part: Part, by_name: dict[str, Part], added: dict[str, Part]) -> set[str]:
    found: set[str] = set()
    for _, node in part.arguments:
        for inner in walk(node):
            if isinstance(inner, Name) and inner.name in added:
                found.add(added[inner.name].name)
            elif isinstance(inner, Name) and inner.name in by_name:
                found.add(inner.name)
    return found


def without_gaps(values: np.ndarray, gaps: np.ndarray) -> np.ndarray:
    """Return values (..., rows) without the rows in which the column had none."""
    return np.delete(values, gaps, axis=-1)
