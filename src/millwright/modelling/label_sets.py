"""The label sets of a bound model: from columns, from several columns, stated, or in between."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise
from typing import Any

from millwright.distributions.vector import VectorFamily
from millwright.errors import DataError, ModelError, nearest
from millwright.language.parse import normal_name
from millwright.language.tree import Label, Name, Operation, walk
from millwright.modelling.arguments import family_of
from millwright.modelling.specification import Part, Specification
from millwright.modelling.tables import Tables
from millwright.wording import either

__all__ = ["label_sets"]

_BETWEEN = "between "
_ORDERED = ("cumulative_logit", "cumulative_probit")

LabelTuple = tuple[Any, ...]


def label_sets(
    specification: Specification, tables: Tables, known: dict[str, LabelTuple]
) -> dict[str, LabelTuple]:
    """Return the labels of every label set that the model names.

    Parameters
    ----------
    known
        Sets that are settled already, as for new rows after a fit.

    Raises
    ------
    DataError, ModelError
        If a label set cannot be found.
    """
    result = dict(known)
    for name, stated in specification.labels:
        if name not in result and not _is_between(stated):
            result[name] = _stated(name, stated, tables)
    for part in specification.parts:
        if part.kind == "outcome" and part.name not in result:
            found = _of_outcome(part, specification, tables)
            if found:
                result[part.name] = found
    for name, stated in specification.labels:
        if name not in result and isinstance(stated, str):
            result[name] = _between(name, stated, result, tables)
    for part in specification.parts:
        for name in part.per:
            if name not in result:
                result[name] = _of_column(part, name, tables)
        _check_enough(part, result)
        for name in _compared_with_labels(part):
            if name not in result and name in tables.columns and not tables.columns[name].numeric:
                result[name] = tables.labels(name)
    for name, labels in tables.matrix_labels.items():
        result.setdefault(name, labels)
    return result


def _compared_with_labels(part: Part) -> Iterator[str]:
    """Yield the columns that a definition compares with a label."""
    for _, top in part.arguments:
        for node in walk(top):
            if isinstance(node, Operation) and any(isinstance(n, Label) for n in node.operands):
                yield from (n.name for n in node.operands if isinstance(n, Name))


def _labels(name: str) -> str:
    """Return how the labels of a set are stated."""
    return either(f"labels={{'{name}': [...]}}", f"{name} = [...] under [labels] in the sheet")


def _is_between(stated: Any) -> bool:
    return isinstance(stated, str) and stated.strip().startswith(_BETWEEN)


def _of_column(part: Part, name: str, tables: Tables) -> LabelTuple:
    if name not in tables.columns and name not in tables.matrix_labels:
        if name == "row":
            raise ModelError(
                part.definition.message(
                    "`per row`: rows have no labels. Number them in a column of the data, such as "
                    "`sack`, and write `per sack`"
                )
            )
        raise ModelError(
            part.definition.message(
                f"`per {name}`: the data have no column `{name}`."
                f"{nearest(name, tables.columns)} A label set that is no column is stated with "
                f"{_labels(name)}"
            )
        )
    return tables.labels(name)


def _stated(name: str, stated: Any, tables: Tables) -> LabelTuple:
    """Return labels that the model lists, or those of all the columns it names.

    A list under a column's own name states the labels and their order.
    """
    if not isinstance(stated, str):
        return tuple(stated)
    if name in tables.columns:
        raise ModelError(f"`labels`: the data have a column `{name}` too; rename one of them.")
    columns = [normal_name(column.strip()) for column in stated.split(",")]
    return tuple(sorted({label for column in columns for label in tables.labels(column)}))


def _between(name: str, stated: str, found: dict[str, LabelTuple], tables: Tables) -> LabelTuple:
    """Return one label for each pair of neighbours in another label set."""
    other = normal_name(stated.strip().removeprefix(_BETWEEN).strip())
    labels = found.get(other) or (tables.labels(other) if other in tables.columns else ())
    if len(labels) < 2:
        raise ModelError(
            f"`labels`: `{name}` is stated as between the labels of `{other}`, which is not a "
            f"label set with two labels or more.{nearest(other, [*found, *tables.columns])}"
        )
    return tuple(f"{low} | {high}" for low, high in pairwise(labels))


def _of_outcome(part: Part, specification: Specification, tables: Tables) -> LabelTuple:
    """Return the labels of an outcome of labels, or of the columns of a matrix."""
    if part.event == "vector":
        target = dict(specification.columns).get(part.name)
        return tuple(map(normal_name, target)) if isinstance(target, tuple) else ()
    if part.event != "label":
        return ()
    if part.name not in tables.columns:
        raise DataError(
            f"Which labels does `{part.name}` have? The data have no such column; state them "
            f"with {_labels(part.name)}."
        )
    column = tables.columns[part.name]
    if part.family in _ORDERED and not column.numeric and column.order is None:
        labels = tables.labels(part.name)
        raise ModelError(
            part.definition.message(
                f"the order of the labels of `{part.name}` is not known "
                f"({', '.join(map(str, labels[:8]))}). State it, lowest first, with "
                f"{_labels(part.name)}, or give an ordered "
                "categorical column"
            )
        )
    return tables.labels(part.name)


def _check_enough(part: Part, found: dict[str, LabelTuple]) -> None:
    if part.kind != "unknown" or part.event == "number":
        return
    family = family_of(part.family, part.arguments)
    size = len(found[part.per[-1]])
    if isinstance(family, VectorFamily) and size < family.fewest:
        raise ModelError(
            part.definition.message(
                f"`{family.name}` needs at least {family.fewest} labels, but `{part.per[-1]}` "
                f"has {size}"
            )
        )
