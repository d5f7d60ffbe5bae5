"""Whether all that the data say of a process is said by rows that each read one value plainly.

Such a row is normal, around a number times the value plus another number.
"""

from __future__ import annotations

from millwright.distributions.processes import Autoregressive, GaussianProcess, WalkProcess
from millwright.language.tree import Listed, Lookup, Name, Node, Operation
from millwright.modelling.arguments import family_of
from millwright.modelling.labelled import is_rows
from millwright.modelling.program import Program
from millwright.modelling.specification import Part, reaches

__all__ = ["is_chain", "labels_of", "outcomes_of", "reads_plainly"]


def outcomes_of(program: Program, name: str) -> tuple[Part, ...]:
    """Return the outcomes that rest on an unknown."""
    return tuple(
        part
        for part in program.outcomes
        if any(reaches(node, name, program.by_name) for _, node in part.arguments)
    )


def reads_plainly(program: Program, name: str) -> bool:
    """Whether all that the data say of an unknown is said by such rows."""
    others = (*program.unknowns, *program.log_density_terms)
    by_name = program.by_name
    if (
        not (is_chain(program, by_name[name]) or _is_function(by_name[name]))
        or name in program.weighted
        or any(reaches(node, name, by_name) for part in others for _, node in part.arguments)
    ):
        return False
    outcomes = outcomes_of(program, name)
    return bool(outcomes) and all(_reads(program, part, name) for part in outcomes)


def _reads(program: Program, part: Part, name: str) -> bool:
    axes = dict(program.outcome_axes)[part.name]
    given = dict(part.arguments)
    plain = part.family == "normal" and given.keys() == {"location", "scale"}
    if not plain or len(axes) != 1 or not is_rows(axes[0]) or part.name in program.filled:
        return False
    if reaches(given["scale"], name, program.by_name):
        return False
    labels = labels_of(program, part, name)
    return len(labels) == len(program.by_name[name].per) and all(
        program.column_axes.get(label) == axes for label in labels
    )


def _is_function(part: Part) -> bool:
    return isinstance(family_of(part.family, part.arguments), GaussianProcess)


def is_chain(program: Program, part: Part) -> bool:
    """Whether each value rests on the one before alone."""
    family = family_of(part.family, part.arguments)
    if not isinstance(family, Autoregressive):
        return isinstance(family, WalkProcess)
    match dict(part.arguments)["coefficients"]:
        case Listed(items=items):
            return len(items) == 1
        case Name(name=found) if found in program.by_name:
            return program.shape(program.by_name[found].per)[-1:] == (1,)
    return False


def labels_of(program: Program, part: Part, name: str) -> tuple[str, ...]:
    """Return the columns by which an outcome's location looks up a value of a series.

    Empty if it is not a number times the value plus another number, or by several columns.
    """
    columns: set[tuple[str, ...]] = set()
    affine = _is_affine(program, dict(part.arguments)["location"], name, columns)
    return columns.pop() if affine and len(columns) == 1 else ()


def _is_affine(program: Program, node: Node, name: str, columns: set[tuple[str, ...]]) -> bool:
    """Whether an expression is a number times a value of the series, plus another number.

    Takes down the columns of labels by which it looks the value up.
    """
    if not reaches(node, name, program.by_name):
        return True
    match node:
        case Lookup(base=Name(name=found), labels=labels) if found == name:
            columns.add(tuple(label.name if isinstance(label, Name) else "" for label in labels))
            return True
        case Name(name=found) if found != name:
            part = program.by_name[found]
            return not part.per and _is_affine(program, part.expression, name, columns)
        case Operation(operator="+" | "-" | "negative", operands=operands):
            return all(_is_affine(program, one, name, columns) for one in operands)
        case Operation(operator="*", operands=(left, right)):
            once = not all(reaches(one, name, program.by_name) for one in (left, right))
            both = all(_is_affine(program, one, name, columns) for one in (left, right))
            return once and both
        case Operation(operator="/", operands=(left, right)):
            below = reaches(right, name, program.by_name)
            return not below and _is_affine(program, left, name, columns)
    return False
