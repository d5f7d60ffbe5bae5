"""Answers of a posterior as frames and labelled arrays of pandas and xarray."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd
import xarray as xr

from millwright.checks import check_text
from millwright.draws.arrays import labelled_array
from millwright.draws.expressions import single_numbers
from millwright.draws.intervals import IntervalKind, check_level, interval, kind_words
from millwright.draws.labelled_draws import Draws
from millwright.draws.region import highest_density_region
from millwright.draws.table import Table
from millwright.errors import ArgumentError

__all__ = [
    "draws_frame",
    "interval_ends",
    "membership_frame",
    "region_frame",
    "rows_frame",
    "states_frame",
    "table_frame",
]


def table_frame(table: Table, index: str) -> pd.DataFrame:
    """Return a table as a frame with a named index."""
    return pd.DataFrame(table.columns, index=pd.Index(table.names, name=index))


def draws_frame(draws: Draws) -> pd.DataFrame:
    """Return all draws, one row a draw, chain after chain."""
    chains, size = draws.shape
    columns: dict[str, Any] = {
        "chain": np.repeat(np.arange(1, chains + 1), size),
        "iteration": np.tile(np.arange(1, size + 1), chains),
    }
    columns |= {name: value.reshape(-1) for name, value in draws.single().items()}
    return pd.DataFrame(columns)


def interval_ends(draws: Draws, name: str, level: float, kind: IntervalKind) -> xr.DataArray:
    """Return both ends of the interval of each number of a quantity."""
    value = labelled_array(draws, check_text("name", name))
    pooled = value.values.reshape(-1, *value.shape[2:])
    low, high = interval(pooled, check_level(level), kind)
    return xr.DataArray(
        np.stack([low, high]),
        dims=("end", *value.dims[2:]),
        coords={"end": ["low", "high"], **{axis: value.coords[axis] for axis in value.dims[2:]}},
        name=name,
        attrs={"kind": kind, "level": level},
    )


def region_frame(draws: Draws, quantity: str, level: float) -> pd.DataFrame:
    """Return the pieces of the region of highest density, one row a piece."""
    rows = []
    for name, value in single_numbers(draws, quantity).items():
        flat = value.reshape(-1)
        for at, (low, high) in enumerate(highest_density_region(flat, level), start=1):
            share = float(np.mean((flat >= low) & (flat <= high)))
            rows.append((name, at, low, high, share))
    return pd.DataFrame(rows, columns=["quantity", "piece", "from", "to", "share inside"])


def states_frame(found: xr.DataArray, level: float) -> pd.DataFrame:
    """Summarise drawn states, one row a row of the data and state.

    Raises
    ------
    ArgumentError
        If what was drawn has no states.
    """
    name = found.name
    if found.ndim == 3:
        raise ArgumentError(f"`{name}` has no states: posterior.latent({name!r}) draws it.")
    values = found.values.reshape(-1, found.shape[2], found.shape[3])
    low, high = interval(values, level)
    words = kind_words("central", level)
    labels = [str(label) for label in found.coords[found.dims[3]].values]
    index = pd.MultiIndex.from_product(
        [range(1, values.shape[1] + 1), labels], names=["row", "state"]
    )
    return pd.DataFrame(
        {
            "mean": values.mean(axis=0).ravel(),
            "sd": values.std(axis=0, ddof=1).ravel(),
            "median": np.median(values, axis=0).ravel(),
            f"{words}, from": low.ravel(),
            f"{words}, to": high.ravel(),
        },
        index=index,
    )


def membership_frame(name: str, shares: np.ndarray, labels: tuple[object, ...]) -> pd.DataFrame:
    """Return the probability of each component, one row a row of the data."""
    rows = pd.RangeIndex(1, len(shares) + 1, name="row")
    return pd.DataFrame(shares, index=rows, columns=pd.Index(labels, name=name))


def rows_frame(
    rows: tuple[tuple[str, int], ...], heading: str, values: np.ndarray
) -> pd.DataFrame:
    """Return one number for each outcome and row."""
    index = pd.MultiIndex.from_tuples(rows, names=["outcome", "row"])
    return pd.DataFrame({heading: values}, index=index)
