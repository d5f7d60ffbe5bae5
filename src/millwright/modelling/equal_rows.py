"""Rows that repeat each other: each different one once, with the number of its copies."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from millwright.distributions.kernels import KERNELS
from millwright.language.tree import Call, Name, Node, Operation, walk
from millwright.modelling.binding import Binding
from millwright.modelling.labelled import is_rows
from millwright.modelling.linear import names_beneath, runs_over_rows
from millwright.modelling.specification import Part

__all__ = ["different_rows", "may_repeat", "row_arguments"]

_MIXING = ("sum", "mean", "sd", "standardise", "dot")


def may_repeat(binding: Binding, axis: str, outcomes: Sequence[Part]) -> bool:
    """Whether nothing but these outcomes has a value a row, each from its own row alone."""
    program = binding.program
    if any(any(is_rows(a) for a in part.axes) or part.rows_of for part in program.unknowns):
        return False
    if any(runs_over_rows(binding, part.expression) for part in program.log_density_terms):
        return False
    for part in outcomes:
        plain = part.event in ("number", "label") and part.name not in program.filled
        plain = plain and part.name not in program.weighted
        if not plain or dict(program.outcome_axes)[part.name] != (axis,):
            return False
    # Not in these outcomes alone: a single number that a prior, a term or another outcome rests
    # on, such as the mean over the rows of something unknown, needs all rows too.
    live = [part for part in program.parts if part.kind != "derived"]
    nodes = (node for part in live for _, top in part.arguments for node in _all(binding, top))
    return not any(_mixes(binding, node) for node in nodes)


def _all(binding: Binding, top: Node) -> Iterator[Node]:
    """Yield every node of an expression and of the derived quantities that it rests on."""
    yield from walk(top)
    for name in names_beneath(binding, top):
        part = binding.program.by_name.get(name)
        if part is not None and part.kind == "derived":
            yield from walk(part.expression)


def _mixes(binding: Binding, node: Node) -> bool:
    """Whether one row's value may rest on other rows."""
    if not runs_over_rows(binding, node):
        return False
    if isinstance(node, Call):
        own = node.function in binding.program.foreign_by_name
        return own or node.function in KERNELS or node.function in _MIXING
    if isinstance(node, Operation) and node.operator == "@":
        return runs_over_rows(binding, node.operands[1])
    return isinstance(node, Name) and node.name in binding.program.filled


def row_arguments(
    binding: Binding, axis: str, outcomes: Sequence[Part]
) -> dict[tuple[str, ...], np.ndarray]:
    """Return the arguments that these outcomes take from the rows."""
    names = {part.name for part in outcomes}
    for part in outcomes:
        for _, node in part.arguments:
            names |= names_beneath(binding, node)
    columns = binding.program.column_axes
    return {
        key: np.asarray(values)
        for key, values in binding.arguments.items()
        if key[0] in ("column", "codes", "observed")
        and key[1] in names
        and columns.get(key[1], ())[:1] == (axis,)
    }


def different_rows(
    columns: Sequence[np.ndarray], most: int
) -> tuple[np.ndarray, np.ndarray] | None:
    """Return the first row of each kind and how many rows are of it; None for more than `most`."""
    import pandas as pd

    rows = len(columns[0])
    codes, kinds = np.zeros(rows, dtype=np.int64), 1
    for values in columns:
        for column in values.reshape(rows, -1).T:
            own, levels = pd.factorize(column)
            if len(levels) > most:
                return None
            codes, found = pd.factorize(codes * len(levels) + own)
            kinds = len(found)
            if kinds > most:
                return None
    first = np.empty(kinds, dtype=np.int64)
    first[codes[::-1]] = np.arange(rows)[::-1]
    return first, np.bincount(codes, minlength=kinds)
