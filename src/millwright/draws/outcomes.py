"""Outcomes as columns of numbers: vectors taken apart, labels by position."""

from __future__ import annotations

from typing import Any

import numpy as np

from millwright.modelling.binding import Binding
from millwright.modelling.specification import Part

__all__ = ["labels_of_outcome", "numbers_of_outcome"]


def numbers_of_outcome(binding: Binding, part: Part, values: np.ndarray) -> dict[str, np.ndarray]:
    """Return values of shape (..., rows) by name; `Y[flour]` for a part of a vector."""
    axes = dict(binding.program.outcome_axes)[part.name]
    if len(axes) == 1:
        return {part.name: values}
    labels = binding.labels[axes[1]]
    return {f"{part.name}[{label}]": values[..., at] for at, label in enumerate(labels)}


def labels_of_outcome(binding: Binding, part: Part) -> tuple[Any, ...]:
    """Return the labels of an outcome of labels, in order."""
    return tuple(binding.labels[part.name])
