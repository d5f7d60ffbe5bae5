"""Draws as labelled arrays: dimensions `chain` and `iteration`, both from 1, and label sets."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import xarray as xr

from millwright.draws.labelled_draws import Draws, kept_iterations

__all__ = ["labelled_array", "thinned_array"]


def labelled_array(draws: Draws, name: str) -> xr.DataArray:
    """Return draws of a quantity: a copy, which may be changed."""
    value = np.array(draws.get(name))
    axes = draws.binding.axes[name]
    labels: dict[str, Any] = {axis: list(draws.labels(axis)) for axis in axes}
    return _array(name, value, range(1, draws.shape[1] + 1), labels)


def thinned_array(
    draws: Draws, name: str, values: np.ndarray, axes: tuple[str, ...], most: int
) -> xr.DataArray:
    """Return what was worked out for some draws, of shape (draws, ...), as a labelled array.

    Parameters
    ----------
    most
        What `kept_iterations` was asked for when they were chosen.
    """
    iterations = kept_iterations(draws, most)
    shaped = values.reshape(draws.shape[0], len(iterations), *values.shape[1:])
    labels: dict[str, Any] = {}
    for axis, size in zip(axes, values.shape[1:], strict=True):
        labels[axis] = list(draws.binding.labels.get(axis) or range(1, size + 1))
    return _array(name, shaped, iterations + 1, labels)


def _array(
    name: str, values: np.ndarray, iterations: Sequence[int] | np.ndarray, labels: dict[str, Any]
) -> xr.DataArray:
    coordinates = {
        "chain": np.arange(1, len(values) + 1),
        "iteration": np.asarray(iterations),
        **labels,
    }
    return xr.DataArray(values, dims=tuple(coordinates), coords=coordinates, name=name)
