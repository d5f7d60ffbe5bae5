"""The flat density on an interval, a half line or the whole line: an improper prior."""

from __future__ import annotations

import numpy as np

from millwright.distributions.family import Distribution, Parameter, Parameters, Support
from millwright.distributions.mathematics import Array, Mathematics

__all__ = ["Flat"]


class Flat(Distribution):
    """Density 1 from `low` to `high`; improper unless both are given.

    It says nothing about a quantity but where it can lie. Nothing can be simulated from a model
    with such a prior, and its posterior is proper only if the data see to that.
    """

    name = "flat"
    summary = "flat, and improper: any value is as likely as any other"
    parameters = (
        Parameter("low", "real", "least value", optional=True),
        Parameter("high", "real", "largest value", optional=True),
    )
    improper = True

    def support(self, p: Parameters) -> Support:
        """Return where the density is positive."""
        return Support(lower=p.get("low"), upper=p.get("high"))

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return m.zeros_like(m.asarray(x))

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        """Return points to start from: there are no draws from an improper density."""
        low, high = p.get("low"), p.get("high")
        if low is not None and high is not None:
            return generator.uniform(low, high, size)
        wide = 2.0 * generator.standard_normal(size)
        if low is not None:
            return low + np.exp(wide)
        return wide if high is None else high - np.exp(wide)

    def mean(self, p: Parameters) -> Array:
        return np.asarray(np.nan)
