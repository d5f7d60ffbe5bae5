"""Data sets of one model brought to one shape, so that one compiled function serves them all.

Label sets keep their sizes and lose their names where the model writes none of them; rows are
filled up to a common number, with a count of 0 for the places that are filled up.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from millwright.language.tree import Label, Lookup, Number, walk
from millwright.modelling.binding import Binding
from millwright.modelling.equal_rows import may_repeat, row_arguments
from millwright.modelling.labelled import is_rows
from millwright.modelling.program import COUNTS, Program

__all__ = ["common_rows", "padded", "row_counts", "without_label_names"]

_FEW_ROWS = 256
_MOST_FILLED = 16
_MOST_FILLED_OF_MANY = 3
"""Compiling takes as long as many fits; of few rows, those that are filled up cost little."""


def without_label_names(program: Program) -> Program:
    """Return a program that does not rest on what the labels are called, if that can be."""
    tops = [top for part in program.parts for _, top in part.arguments]
    if any(_writes_a_label(node) for top in tops for node in walk(top)):
        return program
    unnamed = tuple((name, tuple(range(len(labels)))) for name, labels in program.labels)
    return replace(program, labels=unnamed)


def _writes_a_label(node: object) -> bool:
    if isinstance(node, Lookup):
        return any(isinstance(label, Label | Number) for label in node.labels)
    return isinstance(node, Label)


def row_counts(binding: Binding) -> dict[str, int]:
    """Return the length of each row axis that may be filled up."""
    program = binding.program
    if program.black_boxes:
        return {}
    found = {}
    for axis, size in program.sizes:
        outcomes = [p for p in program.outcomes if axis in dict(program.outcome_axes)[p.name]]
        plain = is_rows(axis) and axis not in program.counted and not program.linear
        if plain and outcomes and size and may_repeat(binding, axis, outcomes):
            found[axis] = size
    return found


def common_rows(counts: Sequence[int]) -> dict[int, int]:
    """Return for each number of rows to how many it is filled up, so that few shapes are left."""
    result: dict[int, int] = {}
    most = 0
    for count in sorted(set(counts), reverse=True):
        far = count * (_MOST_FILLED if most <= _FEW_ROWS else _MOST_FILLED_OF_MANY) < most
        if not most or far:
            most = count
        result[count] = most
    return result


def padded(binding: Binding, places: Mapping[str, int]) -> Binding:
    """Return a binding for the log density alone, with rows filled up to so many places.

    The places that are filled up repeat the first row, so nothing there can be infinite that is
    not so anyway, and count for nothing.
    """
    result = binding
    for axis, wanted in places.items():
        rows = binding.program.size_of[axis]
        program = result.program
        outcomes = [p for p in program.outcomes if axis in dict(program.outcome_axes)[p.name]]
        at = np.concatenate([np.arange(rows), np.zeros(wanted - rows, dtype=int)])
        counts = np.concatenate([np.ones(rows), np.zeros(wanted - rows)])
        used = row_arguments(binding, axis, outcomes)
        sizes = tuple((n, wanted if n == axis else size) for n, size in program.sizes)
        result = replace(
            result,
            program=replace(program, sizes=sizes, counted=(*program.counted, axis)),
            arguments={
                **result.arguments,
                (COUNTS, axis): counts,
                **{key: values[at] for key, values in used.items()},
            },
        )
    return result
