"""Where each unknown stands in the sampler's vector, and the map onto its support.

Samplers move in unconstrained coordinates u. An unknown with a lower bound a is a + exp(u),
with an upper bound b it is b - exp(u), with both a + (b - a) expit(u); the log density gains
the logarithm of the map's derivative.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from millwright.distributions.family import Family
from millwright.distributions.flat import Flat
from millwright.distributions.mathematics import Array, Mathematics, softplus
from millwright.distributions.vector import VectorFamily
from millwright.modelling.arguments import family_of
from millwright.modelling.program import Program
from millwright.modelling.specification import Part

__all__ = [
    "CoordinateRange",
    "bounds_of",
    "constrained",
    "free_of",
    "free_shape",
    "onto_support",
    "places",
    "unconstrained",
]

Bounds = Literal["none", "lower", "upper", "both"]

# Prior draws can reach a bound in floating point; this keeps their coordinates finite.
_FARTHEST = 36.0


@dataclass(frozen=True, kw_only=True)
class CoordinateRange:
    """One unknown's stretch of the sampler's vector.

    Attributes
    ----------
    axes
        Axes of the unknown's values.
    shape
        Shape of its free coordinates; shares of a whole have one fewer than values.
    """

    name: str
    axes: tuple[str, ...]
    shape: tuple[int, ...]
    start: int

    @property
    def size(self) -> int:
        """How many free coordinates the unknown has."""
        return int(np.prod(self.shape, dtype=int))

    @property
    def stop(self) -> int:
        """Position after its last number."""
        return self.start + self.size


def places(program: Program) -> tuple[CoordinateRange, ...]:
    """Return the place of each unknown, in order of use."""
    result: list[CoordinateRange] = []
    start = 0
    for part in program.unknowns:
        place = CoordinateRange(
            name=part.name, axes=part.axes, shape=free_shape(part, program), start=start
        )
        result.append(place)
        start = place.stop
    return tuple(result)


def free_shape(part: Part, program: Program) -> tuple[int, ...]:
    shape = program.shape(part.per)
    family = family_of(part.family, part.arguments)
    if isinstance(family, VectorFamily):
        return (*shape[:-1], family.free_size(shape[-1]))
    return shape


def onto_support(
    m: Mathematics, part: Part, u: Array, parameters: dict[str, Array]
) -> tuple[Array, Array]:
    """Map free coordinates of an unknown onto its support.

    Returns
    -------
    Values, and the log derivative of the map: element by element, or one for each vector.
    """
    family = family_of(part.family, part.arguments)
    if isinstance(family, VectorFamily):
        return family.from_free(m, u, parameters)
    return constrained(m, u, *bounds_of(part, parameters))


def free_of(part: Part, x: Array, parameters: dict[str, Array]) -> np.ndarray:
    """Map values of an unknown back to its free coordinates (NumPy)."""
    family = family_of(part.family, part.arguments)
    if isinstance(family, VectorFamily):
        u = family.to_free(x, parameters)
        return np.nan_to_num(u, nan=0.0, posinf=_FARTHEST, neginf=-_FARTHEST)
    return unconstrained(x, *bounds_of(part, parameters))


def bounds_of(part: Part, parameters: dict[str, Array]) -> tuple[Array | None, Array | None]:
    """Return the ends of an unknown's support for given arguments of its prior."""
    family = family_of(part.family, part.arguments)
    if not isinstance(family, Family | Flat):
        return None, None
    support = family.support(parameters)
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
