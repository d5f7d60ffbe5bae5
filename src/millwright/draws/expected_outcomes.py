"""The expectation of each row, averaged over draws of the unknowns."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.modified import Modified
from millwright.distributions.truncation import Truncated
from millwright.distributions.vector import LabelFamily
from millwright.modelling.arguments import family_of
from millwright.modelling.binding import Binding
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import DRAW
from millwright.modelling.shaping import spread_arguments

__all__ = ["expected_outcomes", "lead_of"]

_MOST_MEANS, _FEWEST_FOR_MEANS, _CLOSED = 50_000, 100, 4
"""Means of cut and recorded outcomes are taken of so many draws times rows together: four times as
many of those in closed form."""


def expected_outcomes(
    binding: Binding, evaluation: Evaluation, copies: Mapping[str, np.ndarray]
) -> dict[str, np.ndarray]:
    """Return each row's expectation, averaged over the draws of the unknowns."""
    result = {}
    for part in binding.program.outcomes:
        if part.name not in copies:
            continue
        axes = (DRAW, *dict(binding.program.outcome_axes)[part.name])
        program = binding.program
        values = spread_arguments(on_numpy, part, evaluation.parameters(part), axes, program)
        family = family_of(part.family, part.arguments)
        size = (lead_of(evaluation), *program.shape(axes[1:]))
        if isinstance(family, Truncated | Modified):
            values, size = _fewer(values, size, 1 if family.mean_takes_long else _CLOSED)
        if isinstance(family, LabelFamily):
            shares = family.probabilities(values)
            result[part.name] = np.broadcast_to(shares, (*size, shares.shape[-1])).mean(axis=0)
            continue
        with np.errstate(all="ignore"):
            mean = np.broadcast_to(np.asarray(family.mean(values)), size).mean(axis=0)
        result[part.name] = np.where(np.isfinite(mean), mean, np.median(copies[part.name], axis=0))
    return result


def _fewer(
    values: Mapping[str, Any], size: tuple[int, ...], speed: int
) -> tuple[dict[str, Any], tuple[int, ...]]:
    """Keep so many draws, evenly spaced, that means which take long take seconds."""
    enough = max(_FEWEST_FOR_MEANS, speed * _MOST_MEANS // max(1, math.prod(size[1:])))
    step = max(1, size[0] // enough)
    kept = {
        name: value[::step] if np.ndim(value) and len(value) == size[0] else value
        for name, value in values.items()
    }
    return kept, (len(range(0, size[0], step)), *size[1:])


def lead_of(evaluation: Evaluation) -> int:
    """Return how many draws of the unknowns an evaluation holds."""
    first = evaluation.program.unknowns[0].name
    return len(evaluation.values[first].values)
