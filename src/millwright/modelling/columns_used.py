"""Which columns of the data a model uses, and whether they are there."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from millwright.errors import DataError, ModelError, nearest
from millwright.language.tree import Name, Node, walk
from millwright.modelling.specification import Part, Specification
from millwright.modelling.tables import Tables

__all__ = ["columns_used"]


def _names_in(part: Part) -> Iterator[Name]:
    for _, node in part.arguments:
        for inner in walk(node):
            if isinstance(inner, Name):
                yield inner


def columns_used(
    specification: Specification,
    parts: Sequence[Part],
    tables: Tables,
    needed: bool,
    fitted: Tables | None = None,
) -> dict[str, tuple[str, ...]]:
    """Return the axes of each column in use; refuse names that nothing defines.

    With tables that were `fitted`, new rows must have the columns that those had.
    """
    result: dict[str, tuple[str, ...]] = {}
    defined = set(specification.defined)
    for part in parts:
        for name in _names_in(part):
            if name.name in defined:
                continue
            _check_known(specification, part, name, tables, fitted)
            result[name.name] = tables.columns[name.name].axes
        for label_set in part.per:
            if label_set in tables.columns and label_set not in tables.matrix_labels:
                result[label_set] = tables.columns[label_set].axes
    for definition in specification.likelihood:
        if definition.name in tables.columns:
            result[definition.name] = tables.columns[definition.name].axes
        elif needed:
            have = ", ".join(f"`{c}`" for c in list(tables.columns)[:12]) or "none"
            raise DataError(
                f"The outcome `{definition.name}` is not among the data's columns."
                f"{nearest(definition.name, tables.columns)} Columns: {have}."
            )
    return result


def _check_known(
    specification: Specification, part: Part, name: Name, tables: Tables, fitted: Tables | None
) -> None:
    if name.name in tables.columns:
        return
    if fitted and name.name in fitted.columns:
        problem = (
            f"the new rows need the column `{name.name}`, which the model uses and the fitted "
            "rows had: give it a value for each new row"
        )
        raise DataError(part.definition.message(problem, _place_of(part, name)))
    if any(name.name == definition.name for definition in specification.likelihood):
        problem = (
            f"`{name.name}` is an outcome that this reads, and the data lack it: give its column, "
            "with any values where data are simulated"
        )
        raise DataError(part.definition.message(problem, _place_of(part, name)))
    known = [*specification.defined, *tables.columns]
    raise ModelError(
        part.definition.message(
            f"`{name.name}` is neither defined nor a column of the data."
            f"{nearest(name.name, known)}",
            _place_of(part, name),
        )
    )


def _place_of(part: Part, name: Name) -> Node:
    found = (n for n in walk(part.definition.expression) if isinstance(n, Name))
    return next((n for n in found if n.name == name.name), name)
