"""Vectors in rising order, made from a one-dimensional family."""

from __future__ import annotations

import math
from typing import ClassVar

import numpy as np

from millwright.distributions.family import Family, Parameter, Parameters
from millwright.distributions.mathematics import Array, Mathematics, softplus
from millwright.distributions.vector import VectorFamily

__all__ = ["Ordered"]


class Ordered(VectorFamily):
    """Independent draws from the family inside, put into rising order.

    The density is that of order statistics, K! times the product of the densities. Free
    coordinates: the first value, and the logarithms of the steps, on the family's own
    unconstrained scale.
    """

    name = "ordered"
    summary = "independent draws from the distribution inside, in rising order"
    components = ("of",)
    own: ClassVar[tuple[Parameter, ...]] = ()
    needs_whole = False

    def __init__(self, family: Family) -> None:
        self.family = family
        self.parameters = tuple(  # type: ignore[misc]
            Parameter(f"of.{q.name}", q.domain, q.meaning, instead_of=q.instead_of)
            for q in family.parameters
        )

    def _inner(self, p: Parameters) -> dict[str, Array]:
        return {
            name.removeprefix("of."): value[..., None] if np.ndim(value) else value
            for name, value in p.items()
        }

    def from_free(self, m: Mathematics, u: Array, p: Parameters) -> tuple[Array, Array]:
        steps = m.exp(u[..., 1:])
        rising = m.concatenate([u[..., :1], u[..., :1] + m.cumsum(steps, axis=-1)], axis=-1)
        log_slope = m.sum(u[..., 1:], axis=-1)
        support = self.family.support(self._inner(p))
        lower, upper = support.lower, support.upper
        if lower is None and upper is None:
            return rising, log_slope
        if upper is None:
            return lower + m.exp(rising), log_slope + m.sum(rising, axis=-1)
        if lower is None:
            return upper - m.exp(-rising), log_slope - m.sum(rising, axis=-1)
        slopes = m.log(upper - lower) - softplus(m, rising) - softplus(m, -rising)
        return lower + (upper - lower) * m.expit(rising), log_slope + m.sum(slopes, axis=-1)

    def to_free(self, x: Array, p: Parameters) -> np.ndarray:
        support = self.family.support(self._inner(p))
        lower, upper = support.lower, support.upper
        y = np.asarray(x, dtype=float)
        with np.errstate(divide="ignore"):
            if lower is not None and upper is not None:
                y = np.log(y - lower) - np.log(upper - y)
            elif lower is not None:
                y = np.log(y - lower)
            elif upper is not None:
                y = -np.log(upper - y)
            steps = np.log(np.maximum(np.diff(y, axis=-1), 1e-300))
        return np.concatenate([y[..., :1], steps], axis=-1)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        each = self.family.log_density(m, x, self._inner(p))
        return math.lgamma(x.shape[-1] + 1.0) + m.sum(each, axis=-1)

    def contains(self, x: Array, p: Parameters) -> np.ndarray:
        inside = self.family.support(self._inner(p)).contains(x).all(axis=-1)
        return inside & np.all(np.diff(x, axis=-1) > 0, axis=-1)

    def contents(self) -> str:
        return "numbers in rising order"

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return np.sort(self.family.draw(generator, size, self._inner(p)), axis=-1)

    def mean(self, p: Parameters) -> Array:
        # Order statistics have no closed mean in general.
        return np.full(np.shape(next(iter(p.values()), 0.0)), np.nan)
