"""A model bound to data: labels resolved, data checked, everything ready to be compiled."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from millwright.distributions import on_numpy
from millwright.errors import DataError, ModelError, nearest
from millwright.language.parse import normal_name
from millwright.language.tree import Name, Node, walk
from millwright.modelling.checks import check_arguments, check_outcome
from millwright.modelling.density import check_unknown_axes
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import Labelled, spread_over
from millwright.modelling.program import NUMBERS, Program, lift_numbers
from millwright.modelling.space import bounds_of, constrained, places
from millwright.modelling.specification import Part, Specification
from millwright.modelling.tables import LabelSets, Tables, read_tables

__all__ = ["Binding", "bind"]


@dataclass(frozen=True, eq=False)
class Binding:
    """A specification together with one set of data.

    Attributes
    ----------
    program
        What a compiled function depends on.
    arguments
        Arrays it takes: data columns, positions of labels, numbers in the definitions.
    labels
        Labels of each label set, in order.
    axes
        Axes of every unknown, fixed and derived quantity.
    dropped
        Rows left out for want of each outcome.
    """

    specification: Specification
    tables: Tables = field(repr=False)
    program: Program = field(repr=False)
    arguments: Mapping[tuple[str, ...], Any] = field(repr=False)
    labels: LabelSets
    axes: Mapping[str, tuple[str, ...]]
    fingerprint: str
    dropped: Mapping[str, int] = field(default_factory=dict)

    @property
    def dimension(self) -> int:
        """How many numbers are unknown."""
        return places(self.program)[-1].stop

    def evaluation(self, known: Mapping[str, Labelled]) -> Evaluation:
        """Return a NumPy evaluation that starts from known quantities."""
        return Evaluation(on_numpy, self.program, self.arguments, known)


class _Data(dict[tuple[str, ...], Any]):
    """Arguments that are worked out from the tables the first time they are asked for."""

    def __init__(self, tables: Tables, labels: Mapping[str, tuple[Any, ...]]) -> None:
        super().__init__()
        self.tables = tables
        self.labels = labels

    def __missing__(self, key: tuple[str, ...]) -> Any:
        makers: dict[str, Callable[..., np.ndarray]] = {
            "column": self.numbers,
            "codes": self.codes,
            "reduced": self.reduced,
        }
        self[key] = makers[key[0]](*key[1:])
        return self[key]

    def numbers(self, name: str) -> np.ndarray:
        return self.tables.numbers(name)

    def codes(self, name: str, label_set: str) -> np.ndarray:
        return self.tables.codes(name, self.labels[label_set], label_set)

    def reduced(self, name: str, *label_sets: str) -> np.ndarray:
        """Return a column as one value per label; it must be constant within each label."""
        values = self.tables.numbers(name)
        shared = [s for s in label_sets if s not in self.tables.columns]
        if shared:
            raise DataError(
                f"The column `{name}` has one value a row; it cannot be used `per {shared[0]}`, "
                "whose labels are not those of one column."
            )
        shape = tuple(len(self.labels[s]) for s in label_sets)
        index = tuple(self[("codes", s, s)] for s in label_sets)
        if any(len(codes) != len(values) for codes in index):
            raise DataError(
                f"The column `{name}` is in another table than `{', '.join(label_sets)}`."
            )
        flat = np.ravel_multi_index(index, shape)
        result = np.full(int(np.prod(shape)), np.nan)
        result[flat] = values
        differs = np.flatnonzero(result[flat] != values)
        if differs.size:
            names = [str(self.labels[label_sets[0]][index[0][at]]) for at in differs]
            shown = ", ".join(list(dict.fromkeys(names))[:4])
            raise DataError(
                f"The column `{name}` must have one value for each {', '.join(label_sets)} here, "
                f"but it varies within {shown}."
            )
        if np.isnan(result).any():
            raise DataError(f"The column `{name}` has no value for some {', '.join(label_sets)}.")
        return result.reshape(shape)


def bind(
    specification: Specification,
    data: Any,
    labels: LabelSets | None = None,
    rows: int | None = None,
    outcomes: str = "needed",
    missing: str = "refuse",
) -> Binding:
    """Bind a specification to data and check that they fit.

    Parameters
    ----------
    data
        DataFrame, mapping of arrays, mapping of tables, or None.
    labels
        Labels of label sets that are already known, as for new rows after a fit.
    rows
        Number of rows where there are no predictors.
    outcomes
        `needed`: outcome columns must be there and in the support. `optional`: they may be
        missing and are not looked at.
    missing
        `refuse` rows with a missing outcome, or `drop` and count them.

    Raises
    ------
    DataError
        If columns are missing, unreadable, or outside the support.
    ModelError
        If quantities do not combine.
    """
    tables = read_tables(data, specification.columns, rows)
    dropped: dict[str, int] = {}
    if missing == "drop":
        tables, dropped = tables.without_missing([d.name for d in specification.likelihood])
    names = set(specification.defined)
    _check_shadowing(specification, tables)
    known_labels = _label_sets(specification, tables, dict(labels or {}))
    columns = _columns_used(specification, tables, names, outcomes == "needed")
    parts, numbers = lift_numbers(specification.parts)
    sizes = {**tables.sizes, **{s: len(v) for s, v in known_labels.items()}}
    program = Program(
        parts, tuple(columns.items()), tuple(sizes.items()), (), tuple(known_labels.items())
    )
    arguments = _Data(tables, known_labels)
    arguments[NUMBERS] = numbers
    evaluation, axes = _first_evaluation(program, arguments)
    with np.errstate(all="ignore"):
        outcome_axes = _outcome_axes(program, evaluation, columns)
        program = replace(program, outcome_axes=tuple(outcome_axes.items()))
        if outcomes == "needed":
            for part in program.outcomes:
                check_outcome(part, outcome_axes[part.name], evaluation)
    used = [name for name in columns if name in tables.columns]
    label_columns = [name for name in known_labels if name in tables.columns]
    return Binding(
        specification,
        tables,
        program,
        dict(arguments),
        known_labels,
        axes,
        tables.fingerprint([*used, *label_columns]),
        dropped,
    )


def _check_shadowing(specification: Specification, tables: Tables) -> None:
    outcomes = {definition.name for definition in specification.likelihood}
    for name in specification.defined:
        if name in tables.columns and name not in outcomes:
            part = specification.part(name)
            raise ModelError(
                part.definition.message(
                    f"the data have a column `{name}` too; rename the definition or the column, "
                    "so that it is clear which is meant"
                )
            )


def _label_sets(
    specification: Specification, tables: Tables, known: dict[str, tuple[Any, ...]]
) -> dict[str, tuple[Any, ...]]:
    """Return the labels of every label set that the model names."""
    result = dict(known)
    for name, stated in specification.labels:
        if name not in result:
            result[name] = _stated_labels(name, stated, tables)
    for part in specification.parts:
        for name in part.per:
            if name in result:
                continue
            if name not in tables.columns and name not in tables.matrix_labels:
                raise ModelError(
                    part.definition.message(
                        f"`per {name}`: the data have no column `{name}`."
                        f"{nearest(name, tables.columns)}"
                    )
                )
            result[name] = tables.labels(name)
    for name, labels in tables.matrix_labels.items():
        result.setdefault(name, labels)
    return result


def _stated_labels(name: str, stated: Any, tables: Tables) -> tuple[Any, ...]:
    """Return labels that the model lists, or those of all the columns it names."""
    if name in tables.columns:
        raise ModelError(f"`labels`: the data have a column `{name}` too; rename one of them.")
    if not isinstance(stated, str):
        return tuple(stated)
    columns = [normal_name(column.strip()) for column in stated.split(",")]
    return tuple(sorted({label for column in columns for label in tables.labels(column)}))


def _names_in(part: Part) -> Iterator[Name]:
    for _, node in part.arguments:
        for inner in walk(node):
            if isinstance(inner, Name):
                yield inner


def _columns_used(
    specification: Specification, tables: Tables, defined: set[str], needed: bool
) -> dict[str, tuple[str, ...]]:
    """Return the axes of each column in use; refuse names that nothing defines."""
    result: dict[str, tuple[str, ...]] = {}
    for part in specification.parts:
        for name in _names_in(part):
            if name.name in defined:
                continue
            _check_known(part, name, tables, defined)
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


def _check_known(part: Part, name: Name, tables: Tables, defined: set[str]) -> None:
    if name.name in tables.columns:
        return
    known = [*defined, *tables.columns]
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


def _first_evaluation(
    program: Program, arguments: _Data
) -> tuple[Evaluation, dict[str, tuple[str, ...]]]:
    """Evaluate every definition once, at a point inside every support.

    This resolves labels, finds all axes and meets every mistake of shape.
    """
    evaluation = Evaluation(on_numpy, program, arguments)
    axes: dict[str, tuple[str, ...]] = {}
    with np.errstate(all="ignore"):
        for part in program.parts:
            if part.kind == "unknown":
                evaluation.values[part.name] = _inside_support(part, evaluation)
            elif part.kind == "term":
                evaluation.expression(part.expression, part)
            elif part.kind != "outcome":
                evaluation.get(part.name)
            if part.kind == "outcome":
                check_arguments(part, evaluation.parameters(part), evaluation)
            elif part.kind != "term":
                axes[part.name] = evaluation.values[part.name].axes
    return evaluation, axes


def _inside_support(part: Part, evaluation: Evaluation) -> Labelled:
    named = evaluation.parameters(part)
    check_unknown_axes(part, named, evaluation)
    check_arguments(part, named, evaluation)
    values = {name: spread_over(item, part.per) for name, item in named.items()}
    lower, upper = bounds_of(part, values)
    middle, _ = constrained(on_numpy, np.zeros(evaluation.program.shape(part.per)), lower, upper)
    return Labelled(np.asarray(middle), part.per)


def _outcome_axes(
    program: Program, evaluation: Evaluation, columns: Mapping[str, tuple[str, ...]]
) -> dict[str, tuple[str, ...]]:
    """Return the axes of each outcome: its column's, or those of its distribution."""
    result: dict[str, tuple[str, ...]] = {}
    tables = [axis for axis in program.size_of if axis.startswith("row")]
    for part in program.outcomes:
        named = evaluation.parameters(part)
        rows = [axis for item in named.values() for axis in item.axes]
        axes = columns.get(part.name)
        if axes is None:
            found = tuple(dict.fromkeys(rows)) or tuple(tables[:1])
            if not found or (not rows and len(tables) > 1):
                raise DataError(
                    f"How many rows should `{part.name}` have? Nothing in its distribution "
                    "comes from the data; give rows=, or data with the column."
                )
            axes = found
        for name, item in named.items():
            extra = [axis for axis in item.axes if axis not in axes]
            if extra:
                raise ModelError(
                    part.definition.message(
                        _outcome_clash(part.name, name, item, axes, extra[0], evaluation),
                        dict(part.arguments)[name],
                    )
                )
        result[part.name] = axes
    return result


def _outcome_clash(
    outcome: str,
    argument: str,
    item: Labelled,
    axes: tuple[str, ...],
    extra: str,
    evaluation: Evaluation,
) -> str:
    per = ", ".join(f"{axis} ({evaluation.size(axis)})" for axis in axes) or "a single value"
    mend = "" if extra.startswith("row") else f". Look it up row by row with [{extra}]"
    return (
        f"its `{argument}` has one value per {extra} ({evaluation.size(extra)}), "
        f"`{outcome}` has one per {per}{mend}"
    )
