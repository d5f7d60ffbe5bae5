"""The table of a posterior."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from millwright.diagnostics.measures import Measures
from millwright.diagnostics.modes import Modes, mode_notes
from millwright.draws.expressions import chosen_numbers
from millwright.draws.labelled_draws import Draws
from millwright.draws.supports import never_negative
from millwright.draws.table import Order, Table, TableKind, make_table
from millwright.modelling.units import unit_of

__all__ = ["posterior_table"]


def posterior_table(
    draws: Draws,
    measures: Measures,
    modes: Modes,
    names: str | Sequence[str] | None,
    level: float,
    kind: TableKind,
    order: Order,
) -> Table:
    """Summarise quantities, with notes on what the numbers do not show."""
    with np.errstate(invalid="ignore", over="ignore"):
        single = chosen_numbers(draws, names)
        table = make_table(single, level, kind, order, measures, never_negative(draws))
    units = dict(draws.binding.specification.units)
    column = [unit_of(units, name) for name in table.names]
    if any(column):
        table = replace(table, shown={"unit": column, **table.shown})
    notes = mode_notes(modes, table.columns["effective draws"])
    return replace(table, notes=(*table.notes, *notes))
