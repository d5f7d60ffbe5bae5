"""Where each unknown stands in the sampler's vector, and the map onto its support.

Samplers move in unconstrained coordinates u. An unknown with a lower bound a is a + exp(u),
with an upper bound b it is b - exp(u), with both a + (b - a) expit(u); the log density gains
the logarithm of the map's derivative.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from millwright.distributions.mathematics import Array, Mathematics, softplus
from millwright.modelling.arguments import family_of
from millwright.modelling.program import Program
from millwright.modelling.specification import Part

__all__ = ["Place", "constrained", "places", "slope", "unconstrained"]

Bounds = Literal["none", "lower", "upper", "both"]

# Prior draws can reach a bound in floating point; this keeps their coordinates finite.
_FARTHEST = 36.0


@dataclass(frozen=True)
class Place:
    """One unknown's stretch of the sampler's vector."""

    name: str
    axes: tuple[str, ...]
    shape: tuple[int, ...]
    start: int

    @property
    def size(self) -> int:
        """How many numbers the unknown stands for."""
        return int(np.prod(self.shape, dtype=int))

    @property
    def stop(self) -> int:
        """Position after its last number."""
        return self.start + self.size


def places(program: Program) -> tuple[Place, ...]:
    """Return the place of each unknown, in order of use."""
    result: list[Place] = []
    start = 0
    for part in program.unknowns:
        place = Place(part.name, part.per, program.shape(part.per), start)
        result.append(place)
        start = place.stop
    return tuple(result)


def bounds_of(part: Part, parameters: dict[str, Array]) -> tuple[Array | None, Array | None]:
    """Return the ends of an unknown's support for given arguments of its prior."""
    support = family_of(part.family, part.arguments).support(parameters)
    return support.lower, support.upper


def constrained(
    m: Mathematics, u: Array, lower: Array | None, upper: Array | None
) -> tuple[Array, Array]:
    """Map unconstrained `u` onto the support; return values and log derivatives."""
    if lower is None and upper is None:
        return u, m.zeros_like(u)
    if upper is None:
        return lower + m.exp(u), u
    if lower is None:
        return upper - m.exp(u), u
    width = upper - lower
    log_slope = m.log(width) - softplus(m, u) - softplus(m, -u)
    return lower + width * m.expit(u), log_slope


def unconstrained(x: Array, lower: Array | None, upper: Array | None) -> np.ndarray:
    """Map values in the support back to unconstrained coordinates (NumPy)."""
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        if lower is None and upper is None:
            return np.asarray(x, dtype=float)
        if upper is None:
            u = np.log(np.asarray(x) - lower)
        elif lower is None:
            u = np.log(upper - np.asarray(x))
        else:
            share = (np.asarray(x) - lower) / (np.asarray(upper) - lower)
            u = np.log(share) - np.log1p(-share)
    return np.nan_to_num(u, nan=0.0, posinf=_FARTHEST, neginf=-_FARTHEST)


def slope(u: Array, lower: Array | None, upper: Array | None) -> np.ndarray:
    """Return dx/du of the map at `u` (NumPy)."""
    if lower is None and upper is None:
        return np.ones_like(np.asarray(u, dtype=float))
    if upper is None or lower is None:
        return np.exp(u) if upper is None else -np.exp(u)
    share = 1 / (1 + np.exp(-np.asarray(u)))
    return (np.asarray(upper) - lower) * share * (1 - share)
