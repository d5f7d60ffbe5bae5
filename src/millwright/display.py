"""How results show themselves: as plain text, and in a notebook."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from html import escape
from typing import TYPE_CHECKING, Any

from tabulate import tabulate

from millwright.wording import visible

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Shown", "frame_text", "middle_left_out", "text_table"]


class Shown:
    """A result that notebooks show as its text, with its lines and columns kept.

    Those with more to show, such as formulas, say so themselves.
    """

    def _repr_html_(self) -> str:
        return f"<pre>{escape(str(self))}</pre>"


def text_table(names: Sequence[str], columns: Mapping[str, Sequence[str]]) -> str:
    """Return a table as plain text, one row a name, the columns aligned on the right.

    Names and cells are never read as markup.
    """
    # Headings as a row like others: as headings they would be padded.
    cells = [("", *columns), *zip(names, *columns.values(), strict=True)]
    rows = [[visible(cell) for cell in row] for row in cells]
    sides = ["left", *["right"] * len(columns)]
    text = tabulate(rows, tablefmt="plain", disable_numparse=True, colalign=sides)
    return "\n".join(line.rstrip() for line in text.split("\n"))


def frame_text(frame: pd.DataFrame, most: int | None = None) -> str:
    """Return a table of numbers and texts as plain text; numbers get four digits.

    Parameters
    ----------
    most
        How many rows to show; of a longer table the first and the last.
    """
    names = [_name(key) for key in frame.index]
    columns = {_name(name): [_cell(value) for value in frame[name]] for name in frame.columns}
    return text_table(*middle_left_out(names, columns, most))


def middle_left_out(
    names: list[str], columns: dict[str, list[str]], most: int | None
) -> tuple[list[str], dict[str, list[str]]]:
    """Return the first and the last rows of a table of more than `most` rows."""
    if most is None or len(names) <= most:
        return names, columns
    half = most // 2
    gap = f"... {len(names) - 2 * half} rows more"
    return (
        [*names[:half], gap, *names[-half:]],
        {key: [*v[:half], "", *v[-half:]] for key, v in columns.items()},
    )


def _name(key: Any) -> str:
    return ", ".join(map(str, key)) if isinstance(key, tuple) else str(key)


def _cell(value: Any) -> str:
    return f"{value:.4g}" if isinstance(value, float) else str(value)
