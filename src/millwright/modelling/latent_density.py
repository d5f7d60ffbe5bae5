"""A bound model in two parts: latent values that are normal given the rest, and the rest.

The latent values are those of processes and of group effects whose coordinates are independent
standard steps z: values = centre + root z, where centre and root rest on the other unknowns alone.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import jax
import numpy as np

from millwright.distributions import on_jax
from millwright.distributions.mathematics import Array
from millwright.modelling.density import (
    log_density_terms,
    outcome_total,
    place_pieces,
    term_total,
)
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import Labelled
from millwright.modelling.program import Arguments, Program
from millwright.modelling.space import places

__all__ = ["LatentDensity"]


@dataclass(frozen=True)
class LatentDensity:
    """The log density of a model at other unknowns theta and standard steps z, in its parts.

    It compares by content, so that models of one form share what is compiled. Vectors: theta
    (others,), z and values (latent,), as they stand in the sampler's position.
    """

    program: Program

    @property
    def latent(self) -> np.ndarray:
        """Where the standard steps stand in a position."""
        return self._positions(latent=True)

    @property
    def others(self) -> np.ndarray:
        """Where the other unknowns stand in a position."""
        return self._positions(latent=False)

    def _positions(self, latent: bool) -> np.ndarray:
        mapped = self.program.mapped
        found = [
            np.arange(place.start, place.stop)
            for place in places(self.program)
            if (place.name in mapped) == latent
        ]
        return np.concatenate([np.zeros(0, dtype=int), *found])

    def _pieces(self, theta: Array, z: Array) -> dict[str, Array]:
        """Return what stands for each unknown: no piece mixes theta and z."""
        result, start = {}, {True: 0, False: 0}
        for place in places(self.program):
            latent = place.name in self.program.mapped
            begin = start[latent]
            start[latent] = begin + place.size
            result[place.name] = (z if latent else theta)[begin : begin + place.size]
        return result

    def placed(self, theta: Array, arguments: Arguments) -> tuple[Array, Array]:
        """Return centre (latent,) and root (latent, latent) of the latent values."""

        def values(z: Array) -> Array:
            evaluation, _ = self._placed(theta, z, arguments)
            found = [evaluation.values[name].values.reshape(-1) for name in self._names]
            return on_jax.concatenate(found)

        nowhere = on_jax.zeros(len(self.latent))
        units = on_jax.eye(len(self.latent))
        columns = jax.vmap(lambda unit: jax.jvp(values, (nowhere,), (unit,))[1])(units)
        return values(nowhere), columns.T

    def _placed(self, theta: Array, z: Array, arguments: Arguments) -> tuple[Evaluation, Any]:
        return place_pieces(on_jax, self.program, arguments, self._pieces(theta, z))

    @property
    def _names(self) -> tuple[str, ...]:
        mapped = self.program.mapped
        return tuple(part.name for part in self.program.unknowns if part.name in mapped)

    def log_prior(self, theta: Array, arguments: Arguments) -> Array:
        """Return the log prior of the other unknowns in their unconstrained coordinates.

        With the powers that priors are raised to, if any are.
        """
        return self._log_prior(self.program, theta, arguments)

    def log_prior_drawn(self, theta: Array, arguments: Arguments) -> Array:
        """Return the log density of draws from that prior, which are without powers."""
        return self._log_prior(replace(self.program, weighted=()), theta, arguments)

    def _log_prior(self, program: Program, theta: Array, arguments: Arguments) -> Array:
        position = on_jax.zeros(len(self.latent) + len(self.others)).at[self.others].set(theta)
        found = log_density_terms(on_jax, program, arguments, position)
        names = {part.name for part in self.program.unknowns} - self.program.mapped
        return sum((found[name] for name in sorted(names)), start=on_jax.asarray(0.0))

    def log_likelihood(self, theta: Array, values: Array, arguments: Arguments) -> Array:
        """Return the log likelihood, and terms added to the log density, at latent values."""
        evaluation, _ = self._placed(theta, on_jax.zeros(len(self.latent)), arguments)
        known: Mapping[str, Labelled] = {
            part.name: evaluation.values[part.name] for part in self.program.unknowns
        }
        again = Evaluation(
            on_jax, self.program, arguments, {**known, **self._shaped(known, values)}
        )
        totals = [outcome_total(again, part) for part in self.program.outcomes]
        totals += [term_total(again, part) for part in self.program.log_density_terms]
        return sum(totals, start=on_jax.asarray(0.0))

    def _shaped(self, known: Mapping[str, Labelled], values: Array) -> dict[str, Labelled]:
        """Return latent values by the name of the unknown that they are of."""
        result: dict[str, Labelled] = {}
        start = 0
        for name in self._names:
            shape = known[name].values.shape
            size = int(np.prod(shape, dtype=int))
            result[name] = Labelled(values[start : start + size].reshape(shape), known[name].axes)
            start += size
        return result
