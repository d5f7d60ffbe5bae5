"""Long tables made short: of a definition with many numbers its extremes and the rest in a row."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from millwright.draws.table import Table

__all__ = ["LONGEST", "folded"]

LONGEST = 60
_ENDS = 3
_FEWEST = 12


def folded(table: Table) -> tuple[list[str], dict[str, list[str]]]:
    """Return names and cells to show.

    A table of up to 60 rows is shown whole, and so is one that was ordered by its numbers: what
    comes first there is what was asked for. Of a longer one, each definition of more than 12
    numbers shows those with its three smallest and its three largest means, and between them a
    row with the range of the other means, the largest R-hat and the smallest effective sample
    sizes.
    """
    if len(table.names) <= LONGEST or table.order != "definition":
        return list(table.names), {name: list(cells) for name, cells in table.shown.items()}
    names: list[str] = []
    shown: dict[str, list[str]] = {heading: [] for heading in table.shown}
    for definition, rows in _groups(table.names).items():
        if len(rows) <= _FEWEST:
            _add(table, rows, names, shown)
            continue
        by_mean = rows[np.argsort(table.columns["mean"][rows], kind="stable")]
        _add(table, by_mean[:_ENDS], names, shown)
        between = by_mean[_ENDS:-_ENDS]
        names.append(f"... {len(between)} more of {definition}")
        cells = _between(table, between)
        for heading, column in shown.items():
            column.append(cells.get(heading, ""))
        _add(table, by_mean[-_ENDS:], names, shown)
    return names, shown


def _groups(names: Sequence[str]) -> dict[str, np.ndarray]:
    found: dict[str, list[int]] = {}
    for row, name in enumerate(names):
        found.setdefault(name.split("[")[0], []).append(row)
    return {name: np.array(rows) for name, rows in found.items()}


def _add(table: Table, rows: np.ndarray, names: list[str], shown: Mapping[str, list[str]]) -> None:
    names += [table.names[row] for row in rows]
    for heading, column in shown.items():
        column += [table.shown[heading][row] for row in rows]


def _between(table: Table, rows: np.ndarray) -> dict[str, str]:
    numbers = table.columns
    low, high = rows[0], rows[-1]
    fewest = np.nanmin(numbers["effective draws"][rows], initial=np.inf)
    return {
        "mean": f"{table.shown['mean'][low]} to {table.shown['mean'][high]}",
        "effective draws": f"from {fewest:.0f}",
        "R-hat": f"up to {np.nanmax(numbers['R-hat'][rows], initial=1.0):.3f}",
    }
