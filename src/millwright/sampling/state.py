"""The state of a chain as plain numbers and arrays, so that it can be stored and sent."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields, replace
from typing import Any, Self, TypeVar

import numpy as np

__all__ = ["Generators", "UnitState", "packed", "restored", "unpacked", "widths"]

Generators = Mapping[str, Any]
"""State of a NumPy bit generator, as its `state` gives it: strings and whole numbers."""


@dataclass(frozen=True, kw_only=True)
class UnitState:
    """All that a unit of work (a chain, or chains that move together) needs to go on.

    Fields are numbers, texts, mappings of those, or float64 arrays.

    Attributes
    ----------
    unit
        Which unit, from 0.
    done
        Transitions so far, warm-up included.
    warmup_seconds, seconds
        Time spent in the warm-up, and after it.
    """

    unit: int
    done: int = 0
    warmup_seconds: float = 0.0
    seconds: float = 0.0

    @property
    def scales(self) -> list[np.ndarray]:
        """Standard deviations that the steps of each chain are fitted to; empty for none."""
        return []

    @property
    def place(self) -> tuple[np.ndarray, float] | None:
        """A position with its log density, where the state has one."""
        return None

    def after(self, seconds: float, warming: bool) -> Self:
        """Return the state with more time spent."""
        if warming:
            return replace(self, warmup_seconds=self.warmup_seconds + seconds)
        return replace(self, seconds=self.seconds + seconds)


AnyState = TypeVar("AnyState", bound=UnitState)


def packed(state: UnitState) -> tuple[dict[str, Any], dict[str, np.ndarray]]:
    """Split a state into what JSON can hold and arrays."""
    values = {f.name: getattr(state, f.name) for f in fields(state)}
    arrays = {name: value for name, value in values.items() if isinstance(value, np.ndarray)}
    return {name: value for name, value in values.items() if name not in arrays}, arrays


def unpacked(
    kind: type[AnyState], numbers: Mapping[str, Any], arrays: Mapping[str, np.ndarray]
) -> AnyState:
    """Put a state together again."""
    values = {**numbers, **arrays}
    return kind(**{f.name: values[f.name] for f in fields(kind)})


def widths(factor: np.ndarray) -> np.ndarray:
    """Return the standard deviations of a covariance with this Cholesky factor."""
    return np.asarray(np.sqrt(np.sum(factor**2, axis=-1)))


def restored(bits: Generators) -> np.random.Generator:
    """Return the generator that goes on from a stored state."""
    generator = np.random.PCG64(0)
    stored: Any = dict(bits)
    generator.state = stored
    return np.random.Generator(generator)
