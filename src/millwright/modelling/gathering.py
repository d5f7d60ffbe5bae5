"""Fits that need not go through all rows at each step: exact, and found from the model.

What is gathered serves the log density alone. Predictions, scores and everything else that has a
value a row use the model as it was bound.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from millwright.language.tree import Node
from millwright.modelling.binding import Binding
from millwright.modelling.cross_products import found_cross_products
from millwright.modelling.equal_rows import different_rows, may_repeat, row_arguments
from millwright.modelling.labelled import is_rows
from millwright.modelling.linear import names_beneath
from millwright.modelling.parameterisations import informed_by_readings
from millwright.modelling.plain_readings import outcomes_of
from millwright.modelling.program import COUNTS, FACTOR, ROWS, Program
from millwright.modelling.specification import Part

__all__ = ["Gathered", "gathered"]

_FEWEST_ROWS = 1000
"""Below it a step costs so little that there is nothing to gain."""


@dataclass(frozen=True)
class Gathered:
    """What a fit goes through instead of the rows.

    Attributes
    ----------
    binding
        The model with its rows gathered.
    notes
        What was done, one sentence for each outcome.
    """

    binding: Binding
    notes: tuple[str, ...] = ()


def gathered(binding: Binding) -> Gathered:
    """Gather the rows of a model as far as that is exact and saves work."""
    kept = binding.__dict__.get("_gathered")
    if kept is None:
        kept = _gathered(binding)
        # Worked out once for each binding, whose content never changes.
        binding.__dict__["_gathered"] = kept
    return kept


def _gathered(binding: Binding) -> Gathered:
    if binding.program.black_boxes:
        return Gathered(binding)
    result = Gathered(binding)
    done: set[str] = set()
    for part in binding.program.outcomes:
        plain = part.name not in (*binding.program.weighted, *_informing(binding.program))
        if plain and _rows_of(binding, part) >= _FEWEST_ROWS:
            result, found = _with_cross_products(result, binding, part)
            done |= {part.name} if found else set()
    left = [part for part in binding.program.outcomes if part.name not in done]
    for axis in [axis for axis in binding.program.size_of if is_rows(axis)]:
        outcomes = [p for p in left if axis in dict(binding.program.outcome_axes)[p.name]]
        if outcomes and binding.program.size_of[axis] >= _FEWEST_ROWS:
            result = _with_different_rows(result, binding, axis, outcomes)
    return _without_idle_columns(result) if done else result


def _informing(program: Program) -> set[str]:
    """Return the outcomes whose rows inform a series."""
    names = [
        name for name, _ in program.forms if informed_by_readings(program, program.by_name[name])
    ]
    return {part.name for name in names for part in outcomes_of(program, name)}


def _without_idle_columns(found: Gathered) -> Gathered:
    """Leave out the columns that only gathered rows were made of: they may be long."""
    here = found.binding
    linear = dict(here.program.linear)
    used: set[str] = set()
    for part in here.program.parts:
        if part.kind != "derived":
            used |= {part.name} - linear.keys()
            nodes = linear.get(part.name) or [node for _, node in part.arguments]
            for node in (*nodes, *_scale(part)):
                used |= names_beneath(here, node)
    arguments = {
        key: values
        for key, values in here.arguments.items()
        if key[0] not in ("column", "codes", "observed") or key[1] in used
    }
    return replace(found, binding=replace(here, arguments=arguments))


def _scale(part: Part) -> list[Node]:
    return [node for name, node in part.arguments if name == "scale"]


def _rows_of(binding: Binding, part: Part) -> int:
    axes = dict(binding.program.outcome_axes)[part.name]
    return int(np.prod(binding.program.shape(axes)))


def _with_cross_products(so_far: Gathered, binding: Binding, part: Part) -> tuple[Gathered, bool]:
    found = found_cross_products(binding, part)
    if found is None:
        return so_far, False
    weights, factor, rows = found
    here = so_far.binding
    program = replace(here.program, linear=(*here.program.linear, (part.name, weights)))
    arguments = {
        **here.arguments,
        (FACTOR, part.name): factor,
        (ROWS, part.name): np.asarray(float(rows)),
    }
    note = (
        f"{part.name}: {rows:,} rows, in one matrix of {len(factor)} x {len(factor)}, since it is "
        "normal with a location that is linear in the unknowns and one scale for all rows"
    )
    binding = replace(here, program=program, arguments=arguments)
    return Gathered(binding, (*so_far.notes, note)), True


def _with_different_rows(
    so_far: Gathered, binding: Binding, axis: str, outcomes: Sequence[Part]
) -> Gathered:
    rows = binding.program.size_of[axis]
    if not may_repeat(binding, axis, outcomes):
        return so_far
    used = row_arguments(binding, axis, outcomes)
    found = different_rows(list(used.values()), rows // 4) if used else None
    if found is None:
        return so_far
    first, copies = found
    kinds, places = len(first), _places(len(first))
    at = np.concatenate([first, np.full(places - kinds, first[0])])
    counts = np.concatenate([copies, np.zeros(places - kinds)]).astype(float)
    here = so_far.binding
    arguments: dict[Any, Any] = {**here.arguments, (COUNTS, axis): counts}
    arguments.update({key: values[at] for key, values in used.items()})
    sizes = tuple((n, places if n == axis else size) for n, size in here.program.sizes)
    program = replace(here.program, sizes=sizes, counted=(*here.program.counted, axis))
    names = ", ".join(part.name for part in outcomes)
    note = (
        f"{names}: {rows:,} rows of {kinds:,} different kinds, each counted as often as it occurs"
    )
    binding = replace(here, program=program, arguments=arguments)
    return Gathered(binding, (*so_far.notes, note))


def _places(kinds: int) -> int:
    """Round up, so that data with a few kinds more or less need no new compilation."""
    step = max(2 ** (kinds.bit_length() - 3), 1)
    return -(-kinds // step) * step
