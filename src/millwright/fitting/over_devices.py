"""Many rows spread over the devices that JAX has: each goes through its share of them."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from millwright.modelling.binding import Binding
from millwright.modelling.equal_rows import row_arguments
from millwright.modelling.program import COUNTS
from millwright.modelling.same_shape import padded, row_counts

__all__ = ["spread_over_devices"]

_FEWEST_ROWS = 20_000
"""Rows of a device below which its part of the work is not worth what joining it costs."""


def spread_over_devices(binding: Binding) -> Binding:
    """Return the binding for the log density alone, its rows cut between devices.

    Rows are filled up to a number that the devices share evenly; those that are filled up count
    for nothing. On one device, or where rows are few or rest on each other, nothing changes.
    """
    many = {axis: rows for axis, rows in row_counts(binding).items() if rows >= 2 * _FEWEST_ROWS}
    if not many:
        return binding
    # JAX takes a second to load: it is loaded where it may be needed.
    import jax
    from jax.sharding import Mesh, NamedSharding, PartitionSpec

    devices = jax.local_devices()[: min(many.values()) // _FEWEST_ROWS]
    if len(devices) == 1:
        return binding
    even = {axis: -(-rows // len(devices)) * len(devices) for axis, rows in many.items()}
    filled = padded(binding, even)
    mesh = Mesh(np.array(devices), ("rows",))
    whole = NamedSharding(mesh, PartitionSpec())
    by_rows = NamedSharding(mesh, PartitionSpec("rows"))
    cut = _of_rows(filled, tuple(even))
    arguments: dict[tuple[str, ...], Any] = {
        key: jax.device_put(value, by_rows if key in cut else whole)
        for key, value in filled.arguments.items()
    }
    return replace(filled, arguments=arguments)


def _of_rows(binding: Binding, axes: tuple[str, ...]) -> set[tuple[str, ...]]:
    """Return which arguments have one entry for each row of these axes."""
    program = binding.program
    found: set[tuple[str, ...]] = set()
    for axis in axes:
        outcomes = [p for p in program.outcomes if axis in dict(program.outcome_axes)[p.name]]
        found |= {(COUNTS, axis), *row_arguments(binding, axis, outcomes)}
    return found
