"""What brackets look up: the values of a quantity at labels that are named, or row by row."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from millwright.errors import DataError, ModelError, nearest
from millwright.language.tree import Label, Lookup, Name, Node, Number, Operation
from millwright.modelling.labelled import (
    DRAW,
    Labelled,
    aligned,
    base_axis,
    is_rows,
    spread_over,
)

if TYPE_CHECKING:
    from millwright.modelling.walk import Walk

__all__ = ["compared_with_label", "looked_up", "refuse_drawn"]


def looked_up(walk: Walk, node: Lookup) -> Labelled:
    """Return the values of a quantity at the labels in brackets."""
    base = walk.visit(node.base)
    chosen = _chosen(walk, node, base.labels)
    picks = [_pick(walk, label, axis) for label, axis in zip(node.labels, chosen, strict=True)]
    axes, codes = aligned(picks)
    left = [axis for axis in base.labels if axis not in chosen]
    both = [axis for axis in axes if axis in left]
    if both:
        raise walk.fail(
            f"the result would have the labels of `{both[0]}` twice: once from the brackets, "
            "once left open",
            node,
        )
    # What is picked comes first, so that what is left open keeps its order behind it.
    lead = (DRAW,) if DRAW in base.axes else ()
    values = base.values
    if left:
        values = spread_over(Labelled(values, base.axes), (*lead, *chosen, *left))
    if DRAW in axes:
        # Labels that are drawn: each draw looks up its own.
        size = max(np.shape(code)[0] for code in codes)
        each = [np.arange(size).reshape(-1, *(1,) * (len(axes) - 1))] if lead else []
        return Labelled(values[(*each, *codes)], (*axes, *left))
    return Labelled(values[(*(slice(None),) * len(lead), *codes)], (*lead, *axes, *left))


def _chosen(walk: Walk, node: Lookup, sets: tuple[str, ...]) -> tuple[str, ...]:
    """Return the label sets of a quantity that brackets are about."""
    text = walk.text(node.base)
    if not sets:
        raise walk.fail(
            f"`{text}` is a single value, so nothing can be looked up in it",
            node,
        )
    if len(node.labels) > len(sets):
        raise walk.fail(
            f"`{text}` has one value per {', '.join(sets)}, so its brackets take {len(sets)} "
            f"label{'s' if len(sets) > 1 else ''}, not {len(node.labels)}",
            node,
        )
    chosen = sets if len(node.labels) == len(sets) else _meant(walk, node, sets)
    if any(map(is_rows, chosen)):
        raise walk.fail(
            f"`{text}` has one value a row, and rows have no labels that brackets could look up; "
            "give it a definition `per` a label set",
            node,
        )
    return chosen


def _meant(walk: Walk, node: Lookup, sets: tuple[str, ...]) -> tuple[str, ...]:
    """Find the label set of each label in brackets that leave some label sets open."""
    found: list[str] = []
    for label in node.labels:
        free = [axis for axis in sets if axis not in found]
        fitting = [axis for axis in free if _could_pick(walk, label, axis)]
        named = [axis for axis in fitting if isinstance(label, Name) and label.name == axis]
        fitting = named or fitting
        if len(fitting) != 1:
            what = f"{label.value!r}" if isinstance(label, Label) else f"`{walk.text(label)}`"
            which = " and ".join(f"`{axis}`" for axis in fitting) or "none of them"
            raise walk.fail(
                f"`{walk.text(node.base)}` has one value per {', '.join(sets)}; {what} is a "
                f"label of {which}, so give a label for each: {len(sets)} in the brackets",
                label,
            )
        found.append(fitting[0])
    return tuple(found)


def _could_pick(walk: Walk, label: Node, axis: str) -> bool:
    try:
        _pick(walk, label, axis)
    except (DataError, KeyError):
        # While compiling, the data hold no codes of labels that did not fit before.
        return False
    except ModelError:
        if isinstance(label, Name) and label.name not in walk.evaluation.program.column_axes:
            raise
        return False
    return True


def _pick(walk: Walk, label: Node, axis: str) -> Labelled:
    """Return positions in the label set `axis`."""
    if isinstance(label, Name):
        return _codes(walk, label, axis)
    value: Any = label.value  # type: ignore[union-attr]
    if isinstance(label, Number) and value == int(value):
        value = int(value)
    known = dict(walk.evaluation.program.labels).get(base_axis(axis), ())
    if value not in known:
        words = nearest(str(value), map(str, known))
        raise walk.fail(
            f"`{axis}` has no label {value!r}.{words} Labels: "
            f"{', '.join(map(repr, known[:8]))}{', ...' if len(known) > 8 else ''}",
            label,
        )
    return Labelled(known.index(value))


def _codes(walk: Walk, column: Name, axis: str) -> Labelled:
    program = walk.evaluation.program
    if column.name not in program.column_axes:
        if column.name in program.by_name:
            raise walk.fail(
                f"`{column.name}` is not a column of labels, so it cannot stand in brackets",
                column,
            )
        known = list(program.column_axes)
        raise walk.fail(
            f"the data have no column `{column.name}`.{nearest(column.name, known)}", column
        )
    if column.name in walk.evaluation.drawn:
        return _drawn_codes(walk, column, base_axis(axis))
    try:
        codes = walk.evaluation.arguments["codes", column.name, base_axis(axis)]
    except DataError as error:
        raise DataError(walk.part.definition.message(error.marked, column)) from None
    return Labelled(codes, program.column_axes[column.name])


def _drawn_codes(walk: Walk, column: Name, axis: str) -> Labelled:
    """Return positions in a label set of labels that were drawn."""
    program = walk.evaluation.program
    events = {part.name: part.event for part in program.outcomes}
    if events[column.name] != "label":
        raise walk.fail("numbers that are drawn cannot look up labels", column)
    labels = dict(program.labels)
    own, known = labels[column.name], labels[axis]
    if missing := [label for label in own if label not in known]:
        raise walk.fail(f"`{axis}` has no label {missing[0]!r}, which may be drawn", column)
    drawn = walk.evaluation.drawn[column.name]
    places = np.array([known.index(label) for label in own])
    return Labelled(places[np.nan_to_num(drawn.values).astype(int)], drawn.axes)


def refuse_drawn(walk: Walk, name: str) -> None:
    """Refuse an outcome that is drawn row by row where a group has one value."""
    if name in walk.evaluation.drawn:
        raise ModelError(
            walk.part.definition.message(
                f"`{name}` is an outcome with a value for each row, so it cannot be drawn "
                f"with one for each of {', '.join(walk.part.per)}: whole data sets of this "
                "model cannot be simulated"
            )
        )


def compared_with_label(walk: Walk, node: Operation) -> Labelled:
    """Compare a column of labels with one label: one truth for each row."""
    left, right = node.operands
    label, column = (left, right) if isinstance(left, Label) else (right, left)
    if not isinstance(label, Label) or not isinstance(column, Name):
        raise walk.fail("a label is compared with a column of labels", node)
    program = walk.evaluation.program
    if column.name not in program.column_axes or column.name in program.by_name:
        raise walk.fail(
            f"`{column.name}` is not a column of labels, so it cannot be compared with "
            f"{label.value!r}",
            column,
        )
    if column.name not in dict(program.labels):
        raise walk.fail(
            f"`{column.name}` holds numbers, so it cannot be compared with the text "
            f"{label.value!r}; write the number without quotes",
            label,
        )
    wanted = _pick(walk, label, column.name).values
    codes = _label_codes(walk, column)
    same = codes.values == wanted
    return Labelled(same if node.operator == "==" else walk.m.logical_not(same), codes.axes)


def _label_codes(walk: Walk, column: Name) -> Labelled:
    """Return the positions of a column's labels, row by row or one for each label of `per`."""
    per = walk.part.per
    if column.name in per:
        return Labelled(np.arange(walk.evaluation.size(column.name)), (column.name,))
    if per and any(map(is_rows, walk.evaluation.program.column_axes[column.name])):
        refuse_drawn(walk, column.name)
        return Labelled(walk.evaluation.arguments["reduced", column.name, *per], per)
    return _codes(walk, column, column.name)
