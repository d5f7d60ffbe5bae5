"""A model bound to data: labels resolved, data checked, everything ready to be compiled."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from millwright.distributions import on_numpy
from millwright.language.tree import Call, walk
from millwright.modelling.checks import check_outcome
from millwright.modelling.columns_used import columns_used
from millwright.modelling.complete_data import CompleteData, complete_data, gap_labels, passed_over
from millwright.modelling.data_arguments import Data
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.first_evaluation import first_evaluation, needed, outcome_axes
from millwright.modelling.foreign import Foreign, foreign_function
from millwright.modelling.label_sets import label_sets
from millwright.modelling.labelled import Labelled, is_rows
from millwright.modelling.linked_parts import through_links
from millwright.modelling.missing import missing_name, with_missing_values
from millwright.modelling.program import NUMBERS, Program, lift_numbers
from millwright.modelling.space import places
from millwright.modelling.specification import Specification
from millwright.modelling.tables import LabelSets, Parted, Tables
from millwright.modelling.taken import TakenValue, take_values, taken_arguments

__all__ = ["Binding", "bind"]


@dataclass(frozen=True, eq=False, kw_only=True)
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
        missing and are not looked at. `drawn`: as `optional`, and a predictor with a distribution
        of its own may have gaps, which are unknowns.
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
    read = complete_data(specification, data, rows, outcomes, missing)
    known = label_sets(specification, read.seen, dict(labels or {}))
    foreign = like.program.foreign if like else _foreign(specification, functions)
    return _checked(specification, read, _drafted(specification, read, known, foreign, like), like)


@dataclass(frozen=True, kw_only=True)
class _Draft:
    """A program with its arguments, whose outcomes have no axes yet."""

    program: Program
    arguments: Data
    labels: LabelSets
    columns: Mapping[str, tuple[str, ...]]
    taken: Mapping[tuple[str, str, str], TakenValue]


def _drafted(
    specification: Specification,
    read: CompleteData,
    labels: LabelSets,
    foreign: tuple[Foreign, ...],
    like: Binding | None,
) -> _Draft:
    """Put the parts of a model together with the columns, labels and values they rest on."""
    parts = specification.parts
    taken: dict[tuple[str, str, str], TakenValue] = {}
    if like:
        # New rows need not have what only values of the fit or derived quantities rest on.
        parts, taken = take_values(parts, like.program, like.arguments, (), like.taken)
    used = parts if like is None else needed(parts)
    fitted = like.tables if like else None
    columns = columns_used(specification, used, read.tables, read.outcomes_needed, fitted)
    sizes = {**read.tables.sizes, **{name: len(v) for name, v in labels.items()}}
    arguments = Data(
        read.tables,
        labels,
        frozenset(part.name for part in specification.parts if part.event == "label"),
        fitted or read.seen,
        frozenset(read.gaps),
        passed_over(specification),
    )
    program = Program(
        parts=parts,
        columns=tuple(columns.items()),
        sizes=tuple(sizes.items()),
        outcome_axes=(),
        labels=tuple(labels.items()),
        foreign=foreign,
    )
    if like is None:
        parts, taken = take_values(parts, program, arguments, read.gaps, None)
    parts, arguments[NUMBERS] = lift_numbers(through_links(parts))
    if read.gaps:
        parts = with_missing_values(parts, read.gaps)
        gaps = {missing_name(name): gap_labels(read.tables, name) for name in read.gaps}
        labels = arguments.labels = {**labels, **gaps}
        sizes |= {name: len(v) for name, v in labels.items()}
    arguments.update(taken_arguments(taken))
    program = replace(
        program,
        parts=parts,
        sizes=tuple(sizes.items()),
        labels=tuple(labels.items()),
        taken=tuple(value.item.axes for value in taken.values()),
        fresh=_fresh_axes(sizes, labels, like) if like else frozenset(),
    )
    return _Draft(
        program=program, arguments=arguments, labels=labels, columns=columns, taken=taken
    )


def _checked(
    specification: Specification, read: CompleteData, draft: _Draft, like: Binding | None
) -> Binding:
    """Evaluate every definition once, check the outcomes, and return what is bound."""
    evaluation, axes = first_evaluation(draft.program, draft.arguments, whole=like is None)
    with np.errstate(all="ignore"):
        of_outcomes = outcome_axes(draft.program, evaluation, draft.columns)
        program = replace(draft.program, outcome_axes=tuple(of_outcomes.items()))
        if read.outcomes_needed:
            for part in program.outcomes:
                check_outcome(part, of_outcomes[part.name], evaluation)
    named = [name for name in (*draft.columns, *draft.labels) if name in read.tables.columns]
    return Binding(
        specification=specification,
        tables=read.tables,
        program=program,
        arguments=dict(draft.arguments),
        labels=draft.labels,
        axes=axes,
        fingerprint=read.tables.fingerprint(named),
        dropped=read.dropped,
        given=read.given,
        parted=read.set_aside,
        taken=draft.taken,
    )


def _fresh_axes(sizes: Mapping[str, int], labels: LabelSets, like: Binding) -> frozenset[str]:
    """Return the axes whose entries are others than at the fit: all rows, and what has grown."""
    rows = {axis for axis in sizes if is_rows(axis)}
    return frozenset(rows | {name for name in labels if labels[name] != like.labels.get(name)})


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
