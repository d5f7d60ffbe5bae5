"""A model bound to data: labels resolved, data checked, everything ready to be compiled."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.processes import GaussianProcess
from millwright.errors import DataError, ModelError, nearest
from millwright.language.tree import Call, Name, Node, walk
from millwright.modelling.arguments import family_of
from millwright.modelling.checks import check_arguments, check_outcome
from millwright.modelling.density import check_unknown_axes
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.foreign import Foreign, foreign_function
from millwright.modelling.label_sets import label_sets
from millwright.modelling.labelled import Labelled, base_axis, is_rows
from millwright.modelling.missing import columns_with_gaps, missing_name, with_missing_values
from millwright.modelling.program import NUMBERS, Program, lift_numbers
from millwright.modelling.shaping import check_axes, spread_arguments
from millwright.modelling.space import free_shape, onto_support, places
from millwright.modelling.specification import Part, Specification
from millwright.modelling.tables import LabelSets, Parted, Tables, joined, read_tables
from millwright.modelling.taken import TakenValue, take_values, taken_arguments
from millwright.wording import either, setting

__all__ = ["Binding", "bind", "passed_over"]


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
    given
        The data before rows were left out.
    parted
        Rows left out that are to be predicted, if any.
    taken
        Values taken from the data of the fit, such as `mean(hours)`.
    """

    specification: Specification
    tables: Tables = field(repr=False)
    program: Program = field(repr=False)
    arguments: Mapping[tuple[str, ...], Any] = field(repr=False)
    labels: LabelSets
    axes: Mapping[str, tuple[str, ...]]
    fingerprint: str
    dropped: Mapping[str, int] = field(default_factory=dict)
    given: Tables | None = field(default=None, repr=False)
    parted: Parted | None = field(default=None, repr=False)
    taken: Mapping[tuple[str, str, str], TakenValue] = field(default_factory=dict, repr=False)

    @property
    def dimension(self) -> int:
        """How many numbers are unknown."""
        return places(self.program)[-1].stop

    def evaluation(self, known: Mapping[str, Labelled]) -> Evaluation:
        """Return a NumPy evaluation that starts from known quantities."""
        return Evaluation(on_numpy, self.program, self.arguments, known)


class _Data(dict[tuple[str, ...], Any]):
    """Arguments that are worked out from the tables the first time they are asked for."""

    def __init__(
        self,
        tables: Tables,
        labels: Mapping[str, tuple[Any, ...]],
        label_outcomes: frozenset[str],
        fitted: Tables | None = None,
        filled: frozenset[str] = frozenset(),
        passed_over: frozenset[str] = frozenset(),
    ) -> None:
        super().__init__()
        self.passed_over = passed_over
        self.tables = tables
        self.labels = labels
        self.label_outcomes = label_outcomes
        self.filled = filled
        self.all_rows = joined(fitted, tables) if fitted else tables

    def __missing__(self, key: tuple[str, ...]) -> Any:
        makers: dict[str, Callable[..., np.ndarray]] = {
            "column": self.numbers,
            "codes": self.codes,
            "observed": self.observed,
            "partly": self.partly,
            "gaps": self.gaps,
            "reduced": self.reduced,
        }
        self[key] = makers[key[0]](*key[1:])
        return self[key]

    def numbers(self, name: str) -> np.ndarray:
        return self.tables.numbers(name)

    def observed(self, name: str) -> np.ndarray:
        """Return an outcome's values: numbers, or the positions of its labels."""
        if name in self.passed_over:
            return self.tables.numbers(name, gaps=True)
        if name in self.label_outcomes:
            return self.codes(name, name).astype(float)
        return self.partly(name) if name in self.filled else self.numbers(name)

    def gaps(self, name: str) -> np.ndarray:
        """Return the positions of the rows in which a column has no value."""
        return np.flatnonzero(self.tables.column(name).missing()).astype(np.int32)

    def partly(self, name: str) -> np.ndarray:
        """Return a column with one of its values in place of each missing one."""
        values = self.tables.column(name).values
        known = ~np.isnan(values)
        return np.where(known, values, values[known][0])

    def codes(self, name: str, label_set: str) -> np.ndarray:
        return self.tables.codes(name, self.labels[label_set], label_set)

    def reduced(self, name: str, *label_sets: str) -> np.ndarray:
        """Return a column as one value per label; it must be constant within each label.

        Of a column of labels, the positions of its labels.
        """
        column = self.all_rows.column(name)
        if column.numeric:
            values = self.all_rows.numbers(name)
        else:
            if name not in self.labels:
                self.all_rows.numbers(name)
            values = self.all_rows.codes(name, self.labels[name], name).astype(float)
        shared = [s for s in label_sets if s not in self.tables.columns]
        if shared:
            raise DataError(
                f"The column `{name}` has one value a row; it cannot be used `per {shared[0]}`, "
                "whose labels are not those of one column."
            )
        shape = tuple(len(self.labels[s]) for s in label_sets)
        index = tuple(self.all_rows.codes(s, self.labels[s], s) for s in label_sets)
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
    like: Binding | None = None,
    functions: tuple[Foreign, ...] = (),
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
        `refuse` rows with a missing outcome, `drop` and count them, or set them aside to
        `predict` them after the fit.
    like
        The binding of the fit, for new rows: its rows say what each label stands for where the
        new ones do not, and its registered functions are used.
    functions
        Functions that the model brings along, in place of registered ones.

    Raises
    ------
    DataError
        If columns are missing, unreadable, or outside the support.
    ModelError
        If quantities do not combine.
    """
    tables = read_tables(data, specification.columns, rows)
    given, parted = tables, None
    gaps = columns_with_gaps(specification, tables) if outcomes == "needed" else ()
    if missing != "refuse":
        skipped = passed_over(specification)
        whole = [d.name for d in specification.likelihood if d.name not in (*gaps, *skipped)]
        parted = tables.complete(whole)
        _check_gaps(specification, parted)
        tables = parted.kept
    if outcomes == "needed":
        _check_readings(specification, tables)
    names = set(specification.defined)
    _check_shadowing(specification, tables)
    # Rows to be predicted have a say in what labels there are.
    seen = given if missing == "predict" else tables
    known_labels = label_sets(specification, seen, dict(labels or {}))
    settled = specification.parts
    taken: dict[tuple[str, str, str], TakenValue] = {}
    if like:
        # New rows need not have what only values of the fit or derived quantities rest on.
        settled, taken = take_values(settled, like.program, like.arguments, (), like.taken)
    used = settled if like is None else _needed(settled)
    columns = _columns_used(specification, used, tables, names, outcomes == "needed")
    sizes = {**tables.sizes, **{s: len(v) for s, v in known_labels.items()}}
    of_labels = frozenset(part.name for part in specification.parts if part.event == "label")
    arguments = _Data(
        tables,
        known_labels,
        of_labels,
        like.tables if like else seen,
        frozenset(gaps),
        passed_over(specification),
    )
    foreign = like.program.foreign if like else _foreign(specification, functions)
    before = Program(
        settled,
        tuple(columns.items()),
        tuple(sizes.items()),
        (),
        tuple(known_labels.items()),
        foreign=foreign,
    )
    if like is None:
        settled, taken = take_values(settled, before, arguments, gaps, None)
    parts, numbers = lift_numbers(settled)
    if gaps:
        parts = with_missing_values(parts, gaps)
        known_labels |= {missing_name(name): _gap_labels(tables, name) for name in gaps}
        sizes |= {s: len(v) for s, v in known_labels.items()}
        arguments.labels = known_labels
    program = replace(
        before,
        parts=parts,
        sizes=tuple(sizes.items()),
        labels=tuple(known_labels.items()),
        taken=tuple(value.item.axes for value in taken.values()),
        fresh=_fresh_axes(sizes, known_labels, like) if like else frozenset(),
    )
    arguments[NUMBERS] = numbers
    arguments.update(taken_arguments(taken))
    evaluation, axes = _first_evaluation(program, arguments, whole=like is None)
    with np.errstate(all="ignore"):
        outcome_axes = _outcome_axes(program, evaluation, columns)
        program = replace(program, outcome_axes=tuple(outcome_axes.items()))
        if outcomes == "needed":
            for part in program.outcomes:
                check_outcome(part, outcome_axes[part.name], evaluation)
    here = [name for name in columns if name in tables.columns]
    label_columns = [name for name in known_labels if name in tables.columns]
    return Binding(
        specification,
        tables,
        program,
        dict(arguments),
        known_labels,
        axes,
        tables.fingerprint([*here, *label_columns]),
        parted.dropped if parted else {},
        given,
        parted if missing == "predict" else None,
        taken,
    )


def _fresh_axes(sizes: Mapping[str, int], labels: LabelSets, like: Binding) -> frozenset[str]:
    """Return the axes whose entries are others than at the fit: all rows, and what has grown."""
    rows = {axis for axis in sizes if is_rows(axis)}
    return frozenset(rows | {name for name in labels if labels[name] != like.labels.get(name)})


def passed_over(specification: Specification) -> frozenset[str]:
    """Return the outcomes whose missing readings their own distribution passes over."""
    return frozenset(
        part.name
        for part in specification.parts
        if part.kind == "outcome" and part.family == "state_space"
    )


def _check_readings(specification: Specification, tables: Tables) -> None:
    """Refuse a series whose readings are all missing: gaps alone say nothing."""
    for name in sorted(passed_over(specification)):
        column = tables.columns.get(name)
        if column is not None and column.missing().all():
            raise DataError(f"`{name}` has no reading at all: every value is missing.")


def _check_gaps(specification: Specification, parted: Parted) -> None:
    """Refuse gaps in an outcome whose rows follow each other."""
    for part in specification.parts:
        if part.name in parted.dropped and part.event == "vector":
            family = family_of(part.family, part.arguments)
            alone = len(parted.kept.columns[part.name].axes) == 1
            if alone and not isinstance(family, GaussianProcess):
                raise DataError(
                    part.definition.message(
                        f"`{part.name}` misses {parted.dropped[part.name]} values, but its rows "
                        "follow each other, so none can be left out. Make the series an unknown "
                        "`per` time, with a reading on the days that have one"
                    )
                )


def _gap_labels(tables: Tables, name: str) -> tuple[int, ...]:
    """Number the rows in which a column has no value, from 1."""
    return tuple(int(at) + 1 for at in np.flatnonzero(tables.column(name).missing()))


def _foreign(specification: Specification, functions: tuple[Foreign, ...]) -> tuple[Foreign, ...]:
    """Return the functions that the model calls: its own, or registered ones as they are now."""
    own_functions = {foreign.name: foreign for foreign in functions}
    found: dict[str, Foreign] = {}
    for part in specification.parts:
        for node in walk(part.definition.expression):
            own = foreign_function(node.function) if isinstance(node, Call) else None
            if own is not None:
                found[own.name] = own_functions.get(own.name, own)
    return tuple(found.values())


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


def _names_in(part: Part) -> Iterator[Name]:
    for _, node in part.arguments:
        for inner in walk(node):
            if isinstance(inner, Name):
                yield inner


def _columns_used(
    specification: Specification,
    parts: Sequence[Part],
    tables: Tables,
    defined: set[str],
    needed: bool,
) -> dict[str, tuple[str, ...]]:
    """Return the axes of each column in use; refuse names that nothing defines."""
    result: dict[str, tuple[str, ...]] = {}
    for part in parts:
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
    program: Program, arguments: _Data, whole: bool
) -> tuple[Evaluation, dict[str, tuple[str, ...]]]:
    """Evaluate every definition once, at a point inside every support.

    This resolves labels, finds all axes and meets every mistake of shape. Unless `whole`, terms
    and derived quantities that nothing else rests on are left out.
    """
    evaluation = Evaluation(on_numpy, program, arguments)
    axes: dict[str, tuple[str, ...]] = {}
    parts = program.parts if whole else _needed(program.parts)
    with np.errstate(all="ignore"):
        for part in parts:
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


def _needed(parts: Sequence[Part]) -> list[Part]:
    """Return what outcomes need: all parts but terms, and derived ones that no other rests on."""
    named = {part.name: part for part in parts}
    wanted = [part for part in parts if part.kind not in ("derived", "term")]
    found: dict[str, Part] = {}
    while wanted:
        part = wanted.pop()
        found[part.name] = part
        names = {n.name for _, top in part.arguments for n in walk(top) if isinstance(n, Name)}
        wanted += [named[name] for name in names if name in named and name not in found]
    return [part for part in parts if part.name in found]


def _inside_support(part: Part, evaluation: Evaluation) -> Labelled:
    named = evaluation.parameters(part)
    check_unknown_axes(part, named, evaluation)
    check_arguments(part, named, evaluation)
    program = evaluation.program
    values = spread_arguments(on_numpy, part, named, part.axes, program)
    free = np.zeros(free_shape(part, program))
    middle, _ = onto_support(on_numpy, part, free, values)
    shape = program.shape(part.axes)
    return Labelled(np.array(np.broadcast_to(np.asarray(middle, dtype=float), shape)), part.axes)


def _outcome_axes(
    program: Program, evaluation: Evaluation, columns: Mapping[str, tuple[str, ...]]
) -> dict[str, tuple[str, ...]]:
    """Return the axes of each outcome: its column's, or those of its distribution."""
    result: dict[str, tuple[str, ...]] = {}
    for part in program.outcomes:
        named = evaluation.parameters(part)
        axes = columns.get(part.name) or _axes_without_column(part, named, program)
        if part.event == "vector" and len(axes) == 1:
            family = family_of(part.family, part.arguments)
            if not family.over_rows:  # type: ignore[attr-defined]
                raise ModelError(
                    part.definition.message(
                        f"`{family.name}` gives a vector for each row, but `{part.name}` is one "
                        "column. Name the columns of the vector with "
                        + either(
                            f"columns={{'{part.name}': ['first', 'second', ...]}}",
                            f'{part.name} = ["first", "second", ...] under [columns] in the sheet',
                        )
                    )
                )
        check_axes(part, named, axes, program, _mend(named, axes))
        result[part.name] = axes
    return result


def _axes_without_column(
    part: Part, named: Mapping[str, Labelled], program: Program
) -> tuple[str, ...]:
    """Return an outcome's axes when the data do not have it, as for simulation."""
    tables = [axis for axis in program.size_of if is_rows(axis)]
    used = [base_axis(axis) for item in named.values() for axis in item.axes]
    rows = tuple(axis for axis in dict.fromkeys(used) if is_rows(axis))
    own = (part.name,) if part.event == "vector" and part.name in program.size_of else ()
    if not rows and part.event == "number":
        family = family_of(part.family, part.arguments)
        ranked = {parameter.name for parameter in family.parameters if parameter.rank}
        plain = [item for name, item in named.items() if name not in ranked]
        rows = tuple(dict.fromkeys(axis for item in plain for axis in item.axes))
    found = rows or tuple(tables[:1])
    if not found or (not rows and len(tables) > 1):
        raise DataError(
            f"How many rows should `{part.name}` have? Nothing in its distribution "
            f"comes from the data; give {setting('rows')}, or data with the column."
        )
    return (*found, *own)


def _mend(named: Mapping[str, Labelled], axes: tuple[str, ...]) -> str:
    extra = [axis for item in named.values() for axis in item.labels if axis not in axes]
    rows = any(map(is_rows, extra))
    return "" if rows else ". Look it up row by row with [{axis}]"
