"""What to say when label sets do not combine."""

from __future__ import annotations

from collections.abc import Sequence

from millwright.modelling.labelled import Labelled, RowAxis, is_rows
from millwright.modelling.program import Program

__all__ = ["axis_words", "clash", "per_words"]


def axis_words(axis: str) -> str:
    """Return what one step along an axis is."""
    return f"row of `{axis.table}`" if isinstance(axis, RowAxis) and axis.table else axis


def per_words(program: Program, text: str, item: Labelled) -> str:
    """Say which label sets a quantity has, and how long they are."""
    if not item.labels:
        return f"`{text}` is a single value"
    each = ", ".join(f"{axis_words(axis)} ({program.shape((axis,))[0]})" for axis in item.labels)
    return f"`{text}` has one value per {each}"


def clash(program: Program, texts: Sequence[str], items: Sequence[Labelled]) -> str:
    """Name two operands whose label sets do not combine, and the likely mend."""
    first, second = _clashing(items)
    words = [per_words(program, texts[at], items[at]) for at in (first, second)]
    for this, other in ((first, second), (second, first)):
        sets = items[this].labels
        rows = any(map(is_rows, items[other].labels))
        if rows and all(axis in program.column_axes for axis in sets):
            mend = f"Look it up row by row: {texts[this]}[{', '.join(sets)}]"
            break
    else:
        mend = "Different label sets meet only through brackets, as in effect[stone]"
    return f"{words[0]}, {words[1]}. {mend}"


def _clashing(items: Sequence[Labelled]) -> tuple[int, int]:
    pairs = [
        (i, j)
        for i in range(len(items))
        for j in range(i + 1, len(items))
        if not set(items[i].labels) <= set(items[j].labels)
        and not set(items[j].labels) <= set(items[i].labels)
    ]
    return pairs[0]
