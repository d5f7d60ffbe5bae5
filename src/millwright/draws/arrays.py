"""Draws as labelled arrays."""

from __future__ import annotations

from typing import Any

import numpy as np
import xarray as xr

from millwright.draws.labelled_draws import Draws

__all__ = ["labelled_array"]


def labelled_array(draws: Draws, name: str) -> xr.DataArray:
    """Return draws of a quantity, all chains one after the other along `draw`.

    `chain` and `iteration`, both counted from 1, are coordinates on `draw`.
    """
    value = draws.get(name)
    chains, size = draws.shape
    axes = draws.binding.axes[name]
    coordinates: dict[str, Any] = {
        "draw": np.arange(chains * size),
        "chain": ("draw", np.repeat(np.arange(1, chains + 1), size)),
        "iteration": ("draw", np.tile(np.arange(1, size + 1), chains)),
    }
    for axis in axes:
        coordinates[axis] = list(draws.labels(axis))
    flat = value.reshape(chains * size, *value.shape[2:])
    return xr.DataArray(flat, dims=("draw", *axes), coords=coordinates, name=name)
