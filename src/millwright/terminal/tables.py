"""Tables as text."""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text

__all__ = ["text_table"]

_MOST_ROWS = 60


def text_table(names: Sequence[str], columns: Mapping[str, Sequence[str]]) -> str:
    """Return a table as plain text, one row a name, the columns aligned on the right.

    Beyond 60 rows the rest is counted, not shown. Names and cells are never read as markup.
    """
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="")
    table.add_column("", no_wrap=True)
    for heading in columns:
        table.add_column(Text(heading), justify="right", no_wrap=True)
    for at, name in enumerate(names[:_MOST_ROWS]):
        table.add_row(Text(name), *(Text(cells[at]) for cells in columns.values()))
    stream = io.StringIO()
    Console(file=stream, width=10_000, color_system=None).print(table)
    lines = [line.rstrip() for line in stream.getvalue().rstrip("\n").split("\n")]
    if len(names) > _MOST_ROWS:
        lines.append(f"... and {len(names) - _MOST_ROWS} rows more; choose some by name.")
    return "\n".join(lines)
