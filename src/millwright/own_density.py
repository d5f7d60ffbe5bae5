"""A short way to the values of a user's own density, for samplers that call it very often."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from scipy.special import expit

from millwright.distributions import on_numpy
from millwright.distributions.bounded import Uniform
from millwright.distributions.flat import Flat
from millwright.language.tree import Call, Name, walk
from millwright.modelling.arguments import family_of
from millwright.modelling.binding import Binding
from millwright.modelling.foreign import Foreign, call_foreign
from millwright.modelling.specification import Part

__all__ = ["OwnDensity", "own_density"]


@dataclass(frozen=True)
class OwnDensity:
    """A black box over single unknowns with constant supports.

    Attributes
    ----------
    order
        Which coordinate each argument is.
    below, above, between
        Which coordinates have a lower end only, an upper end only, both.
    low, high
        Ends of each coordinate's support; NaN where there is none.
    constant
        Logarithm of the prior's density, the same everywhere.
    """

    foreign: Foreign = field(repr=False)
    order: np.ndarray
    low: np.ndarray
    high: np.ndarray
    below: np.ndarray
    above: np.ndarray
    between: np.ndarray
    constant: float

    def __call__(self, positions: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return log prior and log likelihood at positions of shape (n, dimension)."""
        if not self.bounded:
            x, prior = positions, np.zeros(len(positions))
        else:
            x, prior = self.placed(positions)
        with np.errstate(all="ignore"):
            values = call_foreign(self.foreign, on_numpy, list(x.T[self.order]), True, ())
        return prior, np.asarray(values, dtype=float)

    @cached_property
    def bounded(self) -> bool:
        """Whether any coordinate has an end."""
        return bool((self.below | self.above | self.between).any())

    def placed(self, positions: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return the unknowns, and log prior plus log derivatives of the map."""
        x = np.array(positions)
        prior = np.full(len(x), self.constant)
        if self.below.any():
            u = positions[:, self.below]
            x[:, self.below] = self.low[self.below] + np.exp(u)
            prior += u.sum(axis=1)
        if self.above.any():
            u = positions[:, self.above]
            x[:, self.above] = self.high[self.above] - np.exp(u)
            prior += u.sum(axis=1)
        if self.between.any():
            u = positions[:, self.between]
            low, high = self.low[self.between], self.high[self.between]
            x[:, self.between] = low + (high - low) * expit(u)
            prior += (np.log(high - low) - np.logaddexp(0, u) - np.logaddexp(0, -u)).sum(axis=1)
        return x, prior


def own_density(binding: Binding) -> OwnDensity | None:
    """Return the short way for a bound model, or None if it needs the long one."""
    program = binding.program
    names = [part.name for part in program.unknowns]
    if len(program.terms) != 1 or program.outcomes:
        return None
    call = program.terms[0].expression
    if not isinstance(call, Call) or call.function not in program.foreign_by_name:
        return None
    given = [node.name for node in call.arguments if isinstance(node, Name)]
    ends = [_ends(binding, part) for part in program.unknowns]
    if sorted(given) != sorted(names) or len(given) != len(call.arguments) or None in ends:
        return None
    low, high, constant = np.array([end for end in ends if end is not None], dtype=float).T
    lower, upper = np.isfinite(low), np.isfinite(high)
    return OwnDensity(
        program.foreign_by_name[call.function],
        np.array([names.index(name) for name in given]),
        low,
        high,
        lower & ~upper,
        ~lower & upper,
        lower & upper,
        float(constant.sum()),
    )


def _ends(binding: Binding, part: Part) -> tuple[float, float, float] | None:
    """Return the ends of a constant support (NaN for none) and the log of its flat density."""
    family = family_of(part.family, part.arguments)
    constant = not any(isinstance(n, Name) for _, top in part.arguments for n in walk(top))
    if part.per or not constant or not isinstance(family, Flat | Uniform):
        return None
    found = {k: float(v.values) for k, v in binding.evaluation({}).parameters(part).items()}
    low, high = found.get("low", np.nan), found.get("high", np.nan)
    return low, high, -np.log(high - low) if isinstance(family, Uniform) else 0.0
