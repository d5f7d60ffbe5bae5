"""The density of readings of variables on the stable path (JAX)."""

from __future__ import annotations

import functools
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import jax
import jax.numpy as jnp

from millwright.distributions.kalman import Series, log_density
from millwright.expectations.stable_path import spread_at_rest, stable_path
from millwright.expectations.system import MATRICES, System

__all__ = ["Readings", "Rest", "series_of"]


@dataclass(frozen=True, kw_only=True)
class Rest:
    """A stable path with sizes of shocks and errors, as arrays that can be traced.

    Attributes
    ----------
    transition, steps
        x(t) = transition x(t-1) + a step with the covariance `steps`, (n, n) each, of the
        variables that `Readings.kept` names.
    levels, errors
        Of each reading: what is added to its variable, and the sd of its error, (readings,).
    valid
        Whether there is one stable path.
    """

    transition: Any
    steps: Any
    levels: Any
    errors: Any
    valid: Any


@dataclass(frozen=True, kw_only=True)
class Readings:
    """Which variables are read, and with which unknowns; a call gives the log density.

    Its arguments are the values of `System.asked`, the sds of the shocks, of the errors that
    `with_error` names, levels of the readings unless the system has constants, the columns of
    readings, and, if there are gaps, for each a column of 1 where it was read and 0 elsewhere.
    """

    system: System
    variables: tuple[int, ...]
    with_error: tuple[int, ...]
    gaps: bool

    def __call__(self, *values: Any) -> Any:
        """Return the log density of the readings, -inf where there is no single stable path."""
        return _log_density(self, *values)

    @property
    def kept(self) -> tuple[int, ...]:
        """The variables that the filter needs: those that last, and those that are read."""
        return tuple(sorted({*self.system.lasting, *self.variables}))

    @property
    def places(self) -> tuple[int, ...]:
        """Place of each reading's variable among those."""
        return tuple(self.kept.index(one) for one in self.variables)

    def at_rest(self, values: Sequence[Any]) -> tuple[Rest, list[Any]]:
        """Return the path for values of the unknowns, and what of the values is left."""
        left = list(values)

        def next_ones(count: int) -> list[Any]:
            found, left[:] = left[:count], left[count:]
            return found

        asked = next_ones(len(self.system.asked))
        sizes = jnp.stack(next_ones(len(self.system.shocks)))
        errors = jnp.zeros(len(self.variables))
        for at, size in zip(self.with_error, next_ones(len(self.with_error)), strict=True):
            errors = errors.at[at].set(size)
        made = self._matrices(asked)
        ahead, now, before, shocks, constant = (made[name] for name in MATRICES)
        if self.system.has_constants:
            place = -jnp.linalg.solve(ahead + now + before, constant[:, 0])
            levels = place[jnp.array(self.variables)]
        else:
            levels = jnp.stack(next_ones(len(self.variables)))
        transition, impact, valid = stable_path(ahead, now, before, shocks)
        kept = jnp.array(self.kept)
        moves = (impact * sizes)[kept]
        rest = Rest(
            # What does not last has a column of 0: nothing is lost.
            transition=transition[kept[:, None], kept[None, :]],
            steps=moves @ moves.T,
            levels=levels,
            errors=errors,
            valid=valid & jnp.isfinite(levels).all(),
        )
        return rest, left

    def _matrices(self, asked: Sequence[Any]) -> dict[str, Any]:
        made: dict[str, Any] = {name: jnp.asarray(one) for name, one in self.system.fixed.items()}
        for matrix, row, column, at in self.system.placed:
            made[matrix] = made[matrix].at[row, column].add(asked[at])
        return made


@functools.partial(jax.jit, static_argnums=0)
def _log_density(readings: Readings, *values: Any) -> Any:
    """Compiled as one, so that evaluations outside of samplers are not made step by step."""
    rest, columns = readings.at_rest(values)
    count = len(readings.variables)
    numbers = jnp.stack(columns[:count], axis=-1)
    read = jnp.stack(columns[count:], axis=-1) > 0.5 if readings.gaps else numbers == numbers
    total = log_density(
        series_of(
            readings.places,
            rest.transition,
            rest.steps,
            rest.errors,
            jnp.where(read, numbers - rest.levels, 0.0),
            read,
        )
    )
    return jnp.where(rest.valid, total, -jnp.inf)


def series_of(
    places: tuple[int, ...], transition: Any, steps: Any, errors: Any, values: Any, read: Any
) -> Series:
    """Return readings of entries of a state that is at rest before the first time.

    Parameters
    ----------
    places
        Which entry of the state each reading is of.
    values, read
        (times, readings): readings around where they rest, and whether each was read.
    """
    loadings = jnp.eye(len(transition))[jnp.array(places)]
    return Series(
        loadings=jnp.broadcast_to(loadings, (len(values), *loadings.shape)),
        transition=transition,
        steps=steps,
        mean=jnp.zeros(len(transition)),
        spread=spread_at_rest(transition, steps),
        errors=jnp.broadcast_to(errors, values.shape),
        readings=values,
        read=read,
    )
