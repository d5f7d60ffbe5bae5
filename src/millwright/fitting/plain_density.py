"""A short way to the values of densities with black boxes, for samplers that call them often."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from scipy.special import expit

from millwright.distributions import on_numpy
from millwright.distributions.bounded import Uniform
from millwright.distributions.family import Family
from millwright.distributions.flat import Flat
from millwright.distributions.truncation import Truncated, split_bounds
from millwright.language.tree import Call, Name, walk
from millwright.modelling.arguments import family_of
from millwright.modelling.binding import Binding
from millwright.modelling.density import outcome_total, term_total
from millwright.modelling.foreign import Foreign, call_foreign
from millwright.modelling.labelled import DRAW, Labelled
from millwright.modelling.specification import Part

__all__ = ["OwnDensity", "ShortPriors", "short_way"]


@dataclass(frozen=True, kw_only=True)
class Priors:
    """The priors of some unknowns, of one family and with constant arguments.

    Attributes
    ----------
    at
        Which coordinates the unknowns are, shape (n,).
    arguments
        Each of shape (n,).
    shift
        What the densities of `family` lack together: the shares that truncation cuts off.
    """

    at: np.ndarray
    family: Family
    arguments: dict[str, np.ndarray]
    shift: float = 0.0

    def __call__(self, x: np.ndarray) -> np.ndarray:
        """Return the log density of all together at each point (points, dimension)."""
        found = self.family.log_density(on_numpy, x[:, self.at], self.arguments)
        return np.asarray(found.sum(axis=1) + self.shift, dtype=float)


@dataclass(frozen=True, kw_only=True)
class Alone:
    """Single unknowns, each with a prior of its own that rests on numbers alone.

    Attributes
    ----------
    below, above, between
        Which coordinates have a lower end only, an upper end only, both.
    low, high
        Ends of each coordinate's support; NaN where there is none.
    constant
        Logarithm of the density of the priors that are the same everywhere.
    priors
        Those that are not.
    """

    low: np.ndarray
    high: np.ndarray
    below: np.ndarray
    above: np.ndarray
    between: np.ndarray
    constant: float
    priors: tuple[Priors, ...] = field(default=(), repr=False)

    def __call__(self, positions: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return the unknowns at positions (n, dimension), and log prior plus log derivatives."""
        if not self.bounded:
            x, prior = positions, np.full(len(positions), self.constant)
        else:
            x, prior = self.placed(positions)
        for one in self.priors:
            prior = prior + one(x)
        return x, prior

    @cached_property
    def bounded(self) -> bool:
        """Whether any coordinate has an end."""
        return bool((self.below | self.above | self.between).any())

    def placed(self, positions: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return the unknowns, and the constant plus log derivatives of the map."""
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


@dataclass(frozen=True, kw_only=True)
class OwnDensity:
    """A black box over single unknowns, each with a prior of its own.

    Attributes
    ----------
    order
        Which coordinate each argument is.
    """

    foreign: Foreign = field(repr=False)
    order: np.ndarray
    alone: Alone

    def __call__(self, positions: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return log prior and log likelihood at positions of shape (n, dimension)."""
        x, prior = self.alone(positions)
        with np.errstate(all="ignore"):
            values = call_foreign(self.foreign, on_numpy, list(x.T[self.order]), True, ())
        return prior, np.asarray(values, dtype=float)


@dataclass(frozen=True, kw_only=True)
class ShortPriors:
    """Any likelihood of single unknowns, each with a prior of its own."""

    binding: Binding = field(repr=False)
    alone: Alone

    def __call__(self, positions: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return log prior and log likelihood at positions of shape (n, dimension)."""
        program = self.binding.program
        with np.errstate(all="ignore"):
            x, prior = self.alone(positions)
            known = {
                part.name: Labelled(x[:, at], (DRAW,)) for at, part in enumerate(program.unknowns)
            }
            evaluation = self.binding.evaluation(known)
            likelihood = np.zeros(len(positions))
            for part in program.outcomes:
                likelihood = likelihood + outcome_total(evaluation, part)
            for part in program.log_density_terms:
                likelihood = likelihood + term_total(evaluation, part)
        return prior, likelihood


def short_way(binding: Binding) -> OwnDensity | ShortPriors | None:
    """Return the short way for a bound model, or None if it needs the long one."""
    alone = _alone(binding)
    if alone is None:
        return None
    return _own_density(binding, alone) or ShortPriors(binding=binding, alone=alone)


def _own_density(binding: Binding, alone: Alone) -> OwnDensity | None:
    program = binding.program
    names = [part.name for part in program.unknowns]
    if len(program.log_density_terms) != 1 or program.outcomes:
        return None
    call = program.log_density_terms[0].expression
    if not isinstance(call, Call) or call.function not in program.foreign_by_name:
        return None
    given = [node.name for node in call.arguments if isinstance(node, Name)]
    if sorted(given) != sorted(names) or len(given) != len(call.arguments):
        return None
    return OwnDensity(
        foreign=program.foreign_by_name[call.function],
        order=np.array([names.index(name) for name in given]),
        alone=alone,
    )


def _alone(binding: Binding) -> Alone | None:
    program = binding.program
    if any(part.name in program.weighted for part in program.unknowns):
        return None
    if not all(_stands_alone(part) for part in program.unknowns):
        return None
    found = [_constants(binding, part) for part in program.unknowns]
    if any(value.ndim for _, p in found for value in p.values()):
        # Lists, as of a mixture over labels, go the long way.
        return None
    low, high = np.array([_ends(family, p) for family, p in found]).T
    lower, upper = np.isfinite(low), np.isfinite(high)
    flat = [-np.log(p["high"] - p["low"]) for f, p in found if isinstance(f, Uniform)]
    return Alone(
        low=low,
        high=high,
        below=lower & ~upper,
        above=~lower & upper,
        between=lower & upper,
        constant=float(np.sum(flat)),
        priors=_by_family(found),
    )


def _by_family(found: Sequence[tuple[Flat | Family, dict[str, np.ndarray]]]) -> tuple[Priors, ...]:
    """Put priors of one family together: a call for each costs more than its numbers."""
    groups: dict[Any, list[Priors]] = {}
    for at, (family, p) in enumerate(found):
        if isinstance(family, Family) and not isinstance(family, Uniform):
            one = _prior(at, family, p)
            groups.setdefault((id(one.family), *sorted(one.arguments)), []).append(one)
    return tuple(
        Priors(
            at=np.concatenate([one.at for one in group]),
            family=group[0].family,
            arguments={
                name: np.concatenate([one.arguments[name] for one in group])
                for name in group[0].arguments
            },
            shift=sum(one.shift for one in group),
        )
        for group in groups.values()
    )


def _stands_alone(part: Part) -> bool:
    """Whether an unknown is one number whose prior rests on numbers alone."""
    constant = not any(isinstance(n, Name) for _, top in part.arguments for n in walk(top))
    family = family_of(part.family, part.arguments)
    return not part.per and constant and isinstance(family, Flat | Family)


def _constants(binding: Binding, part: Part) -> tuple[Flat | Family, dict[str, np.ndarray]]:
    named = binding.evaluation({}).parameters(part)
    family: Any = family_of(part.family, part.arguments)
    return family, {name: np.asarray(item.values, dtype=float) for name, item in named.items()}


def _ends(family: Flat | Family, p: dict[str, np.ndarray]) -> tuple[float, float]:
    """Return the ends of a support, NaN for none."""
    support = family.support(p)
    ends = (np.nan if end is None else float(end) for end in (support.lower, support.upper))
    low, high = ends
    return low, high


def _prior(at: int, family: Family, p: dict[str, np.ndarray]) -> Priors:
    """Return one prior; the share that a truncation cuts off is worked out once."""
    shift = 0.0
    if isinstance(family, Truncated):
        inner, _, _ = split_bounds(p)
        middle = np.asarray(family.quantile(np.asarray([0.25, 0.5, 0.75]), p))
        with np.errstate(all="ignore"):
            cut = family.log_density(on_numpy, middle, p) - family.family.log_density(
                on_numpy, middle, inner
            )
        # Far out in a tail the density has another form, and the difference varies.
        if np.ptp(cut) < 1e-9:
            family, p, shift = family.family, inner, float(np.mean(cut))
    return Priors(
        at=np.array([at]),
        family=family,
        arguments={n: np.atleast_1d(v) for n, v in p.items()},
        shift=shift,
    )
