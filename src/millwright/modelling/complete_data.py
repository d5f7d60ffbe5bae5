"""The data of a model, read and complete: rows left out, gaps found, names checked."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from millwright.distributions.processes import GaussianProcess
from millwright.errors import DataError, ModelError
from millwright.modelling.arguments import family_of
from millwright.modelling.missing import columns_with_gaps
from millwright.modelling.reading import read_tables
from millwright.modelling.specification import Specification
from millwright.modelling.tables import Parted, Tables

__all__ = ["CompleteData", "complete_data", "gap_labels", "passed_over"]


@dataclass(frozen=True, kw_only=True)
class CompleteData:
    """Data that a model can be bound to.

    Attributes
    ----------
    tables
        The rows that a fit uses.
    given
        All rows.
    seen
        The rows that have a say in what labels there are.
    gaps
        Columns whose missing values are unknowns.
    outcomes_needed
        Whether outcomes must be there.
    dropped
        Number of rows left out for want of each outcome.
    set_aside
        Rows left out that are to be predicted, if any.
    """

    tables: Tables
    given: Tables
    seen: Tables
    gaps: tuple[str, ...]
    outcomes_needed: bool
    dropped: Mapping[str, int]
    set_aside: Parted | None


def complete_data(
    specification: Specification, data: Any, rows: int | None, outcomes: str, missing: str
) -> CompleteData:
    """Read the data of a model once, leave out what cannot be used, and check what is left.

    Parameters
    ----------
    data, rows, outcomes, missing
        As for `bind`.

    Raises
    ------
    DataError
        If columns are unreadable, or gaps lie where none can be.
    ModelError
        If a column has the name of a definition.
    """
    given = read_tables(data, specification.columns, rows)
    outcomes_needed = outcomes == "needed"
    drawn = outcomes == "drawn"
    gaps = () if outcomes == "optional" else columns_with_gaps(specification, given, drawn)
    parted = None
    if missing != "refuse":
        skipped = (*gaps, *passed_over(specification))
        parted = given.complete(
            [d.name for d in specification.likelihood if d.name not in skipped]
        )
        _check_gaps(specification, parted)
    tables = parted.kept if parted else given
    if outcomes_needed:
        _check_readings(specification, tables)
    _check_shadowing(specification, tables)
    return CompleteData(
        tables=tables,
        given=given,
        # Rows to be predicted have a say in what labels there are.
        seen=given if missing == "predict" else tables,
        gaps=gaps,
        outcomes_needed=outcomes_needed,
        dropped=parted.dropped if parted else {},
        set_aside=parted if missing == "predict" else None,
    )


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


def gap_labels(tables: Tables, name: str) -> tuple[int, ...]:
    """Number the rows in which a column has no value, from 1."""
    return tuple(int(at) + 1 for at in np.flatnonzero(tables.column(name).missing()))


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
