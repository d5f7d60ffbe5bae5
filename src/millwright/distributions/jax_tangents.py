"""What derivatives of our own on JAX share."""

from __future__ import annotations

from typing import Any

import jax
from jax.custom_derivatives import SymbolicZero
from jax.numpy import asarray, broadcast_arrays

__all__ = ["part", "spread"]


def part(factor: Any, tangent: Any) -> Any:
    """Return factor() times a tangent; nothing is worked out for what does not vary."""
    if isinstance(tangent, SymbolicZero):
        return 0.0
    return factor() * tangent


def spread(*values: Any) -> list[jax.Array]:
    """Return arrays of one shape: what is differentiated by hand does not broadcast by itself."""
    return list(broadcast_arrays(*(asarray(value, float) for value in values)))
