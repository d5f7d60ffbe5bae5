"""The first evaluation of a model on data, which finds all axes and every mistake of shape."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from millwright.distributions import on_numpy
from millwright.errors import DataError, ModelError
from millwright.language.tree import Name, walk
from millwright.modelling.arguments import family_of
from millwright.modelling.checks import check_arguments
from millwright.modelling.data_arguments import Data
from millwright.modelling.density import check_unknown_axes
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import Labelled, base_axis, is_rows
from millwright.modelling.program import Program
from millwright.modelling.shaping import check_axes, spread_arguments
from millwright.modelling.space import free_shape, onto_support
from millwright.modelling.specification import Part
from millwright.wording import either, setting

__all__ = ["first_evaluation", "needed", "outcome_axes"]


def first_evaluation(
    program: Program, arguments: Data, whole: bool
) -> tuple[Evaluation, dict[str, tuple[str, ...]]]:
    """Evaluate every definition once, at a point inside every support.

    This resolves labels, finds all axes and meets every mistake of shape. Unless `whole`, terms
    and derived quantities that nothing else rests on are left out.
    """
    evaluation = Evaluation(on_numpy, program, arguments)
    axes: dict[str, tuple[str, ...]] = {}
    parts = program.parts if whole else needed(program.parts)
    with np.errstate(all="ignore"):
        for part in parts:
            if part.kind == "unknown":
                evaluation.values[part.name] = _inside_support(part, evaluation)
            elif part.kind == "term":
                evaluation.expression(part.expression, part)
            elif part.kind != "outcome":
                evaluation.get(part.name)
            if part.kind == "outcome":
                check_arguments(part, evaluation.parameters(part), evaluation)
            elif part.kind != "term":
                axes[part.name] = evaluation.values[part.name].axes
    return evaluation, axes


def needed(parts: Sequence[Part]) -> list[Part]:
    """Return what outcomes need: all parts but terms, and derived ones that no other rests on."""
    named = {part.name: part for part in parts}
    wanted = [part for part in parts if part.kind not in ("derived", "term")]
    found: dict[str, Part] = {}
    while wanted:
        part = wanted.pop()
        found[part.name] = part
        names = {n.name for _, top in part.arguments for n in walk(top) if isinstance(n, Name)}
        wanted += [named[name] for name in names if name in named and name not in found]
    return [part for part in parts if part.name in found]


def _inside_support(part: Part, evaluation: Evaluation) -> Labelled:
    named = evaluation.parameters(part)
    check_unknown_axes(part, named, evaluation)
    check_arguments(part, named, evaluation)
    program = evaluation.program
    values = spread_arguments(on_numpy, part, named, part.axes, program)
    free = np.zeros(free_shape(part, program))
    middle, _ = onto_support(on_numpy, part, free, values)
    shape = program.shape(part.axes)
    return Labelled(np.array(np.broadcast_to(np.asarray(middle, dtype=float), shape)), part.axes)


def outcome_axes(
    program: Program, evaluation: Evaluation, columns: Mapping[str, tuple[str, ...]]
) -> dict[str, tuple[str, ...]]:
    """Return the axes of each outcome: its column's, or those of its distribution."""
    result: dict[str, tuple[str, ...]] = {}
    for part in program.outcomes:
        named = evaluation.parameters(part)
        axes = columns.get(part.name) or _axes_without_column(part, named, program)
        if part.event == "vector" and len(axes) == 1:
            family = family_of(part.family, part.arguments)
            if not family.over_rows:  # type: ignore[attr-defined]
                raise ModelError(
                    part.definition.message(
                        f"`{family.name}` gives a vector for each row, but `{part.name}` is one "
                        "column. Name the columns of the vector with "
                        + either(
                            f"columns={{'{part.name}': ['first', 'second', ...]}}",
                            f'{part.name} = ["first", "second", ...] under [columns] in the sheet',
                        )
                    )
                )
        check_axes(part, named, axes, program, _mend(named, axes))
        result[part.name] = axes
    return result


def _axes_without_column(
    part: Part, named: Mapping[str, Labelled], program: Program
) -> tuple[str, ...]:
    """Return an outcome's axes when the data do not have it, as for simulation."""
    tables = [axis for axis in program.size_of if is_rows(axis)]
    used = [base_axis(axis) for item in named.values() for axis in item.axes]
    rows = tuple(axis for axis in dict.fromkeys(used) if is_rows(axis))
    own = (part.name,) if part.event == "vector" and part.name in program.size_of else ()
    if not rows and part.event == "number":
        family = family_of(part.family, part.arguments)
        ranked = {parameter.name for parameter in family.parameters if parameter.rank}
        plain = [item for name, item in named.items() if name not in ranked]
        rows = tuple(dict.fromkeys(axis for item in plain for axis in item.axes))
    found = rows or tuple(tables[:1])
    if not found or (not rows and len(tables) > 1):
        raise DataError(
            f"How many rows should `{part.name}` have? Nothing in its distribution "
            f"comes from the data; give {setting('rows')}, or data with the column."
        )
    return (*found, *own)


def _mend(named: Mapping[str, Labelled], axes: tuple[str, ...]) -> str:
    extra = [axis for item in named.values() for axis in item.labels if axis not in axes]
    rows = any(map(is_rows, extra))
    return "" if rows else ". Look it up row by row with [{axis}]"
