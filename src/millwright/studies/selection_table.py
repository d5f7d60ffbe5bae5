"""The coefficients of a variable selection as a table to be read."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from millwright.draws.intervals import kind_words
from millwright.draws.numbers import decimals_of, fixed, probability_text
from millwright.draws.table import Table

if TYPE_CHECKING:
    from millwright.studies.selection_findings import SelectionFindings

__all__ = ["coefficient_table"]

_MOST = 20
_DIGITS = 10_000
_KEY = (
    "Change of the outcome for 1 more of each. `in`: probability of being in the model. Mean and "
    "interval: where it is in. Above and below 0: over all models; what is left to 1 is the "
    "chance of exactly 0."
)


def coefficient_table(found: SelectionFindings) -> Table:
    """Return the most probable coefficients."""
    whole = len(found.study.candidates.names)
    shown = found.coefficients(count=_MOST + 1)
    rest = shown.iloc[_MOST:]
    shown = shown.head(_MOST)
    words = kind_words(found.kind, found.level)
    low, high = f"if in, {words}, from", f"if in, {words}, to"
    cells: dict[str, list[str]] = {
        name: [] for name in ("in", "mean if in", words, "P(above 0)", "P(below 0)")
    }
    for _, row in shown.iterrows():
        places = decimals_of(float(row["sd if in"])) if row["sd if in"] > 0 else 3
        known = np.isfinite(row[low])
        ends = f"{fixed(row[low], places)} to {fixed(row[high], places)}" if known else ""
        cells["in"].append(probability_text(float(row["probability in"]), _DIGITS))
        cells["mean if in"].append(fixed(row["mean if in"], places) if known else "")
        cells[words].append(ends)
        for side in ("above", "below"):
            value = float(row[f"probability {side} 0"])
            cells[f"P({side} 0)"].append(probability_text(value, _DIGITS))
    notes = [_KEY]
    if len(rest):
        least = probability_text(float(rest["probability in"].iloc[0]), _DIGITS)
        notes.append(
            f"{whole - _MOST} more, each in with a probability of {least} or less: "
            "findings.coefficients()."
        )
    columns = {name: shown[name].to_numpy(float) for name in shown.columns}
    return Table(
        names=tuple(map(str, shown.index)), columns=columns, shown=cells, notes=tuple(notes)
    )
