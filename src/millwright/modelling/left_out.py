"""A bound model that weighs its outcomes or priors, or with some of its rows alone."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from millwright.modelling.binding import Binding
from millwright.modelling.equal_rows import may_repeat, row_arguments
from millwright.modelling.labelled import is_rows
from millwright.modelling.program import WEIGHTS
from millwright.modelling.shaping import split_axes
from millwright.modelling.specification import Part

__all__ = ["likelihood_axes", "of_rows", "row_axis", "weighed"]


def likelihood_axes(binding: Binding, part: Part) -> tuple[str, ...]:
    """Return the axes along which an outcome has one log likelihood each; () if all have one."""
    return split_axes(part.event, dict(binding.program.outcome_axes)[part.name])[0]


def weighed(binding: Binding, weights: Mapping[str, np.ndarray]) -> Binding:
    """Return a binding whose log density weighs some outcomes or priors; all else is as before.

    Values taken from the data, such as `mean(hours)`, stay those of all rows. All bindings that
    are made from one for the same names share what is compiled.

    Parameters
    ----------
    weights
        For each outcome the power of each of its likelihoods, in their order, shape (n,): 0
        leaves a value out. For an unknown the power of its prior, of shape ().
    """
    arguments: dict[tuple[str, ...], np.ndarray] = {}
    for part in (*binding.program.unknowns, *binding.program.outcomes):
        if part.name in weights:
            outcome = part.kind == "outcome"
            shape = binding.program.shape(likelihood_axes(binding, part)) if outcome else ()
            given = np.asarray(weights[part.name], dtype=float)
            arguments[WEIGHTS, part.name] = given.reshape(shape)
    program = replace(binding.program, weighted=tuple(key[1] for key in arguments))
    return replace(binding, program=program, arguments={**binding.arguments, **arguments})


def row_axis(binding: Binding, part: Part) -> str | None:
    """Return the axis whose rows each give one value of an outcome from their own data alone."""
    axes = dict(binding.program.outcome_axes)[part.name]
    # Weights change the log density, and no log likelihood.
    plain = replace(binding, program=replace(binding.program, weighted=()))
    if len(axes) == 1 and is_rows(axes[0]) and may_repeat(plain, axes[0], [part]):
        return axes[0]
    return None


def of_rows(binding: Binding, part: Part, axis: str, rows: np.ndarray) -> Binding:
    """Return a binding for the log likelihood of some rows of an outcome alone.

    Parameters
    ----------
    axis
        As `row_axis` gives it.
    rows
        Positions of the rows.
    """
    used = row_arguments(binding, axis, [part])
    sizes = tuple((n, len(rows) if n == axis else size) for n, size in binding.program.sizes)
    return replace(
        binding,
        program=replace(binding.program, sizes=sizes),
        arguments={**binding.arguments, **{key: values[rows] for key, values in used.items()}},
    )
