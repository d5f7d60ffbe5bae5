"""Values that nobody wrote down, with the support of the distribution they come from."""

from __future__ import annotations

import numpy as np

from millwright.distributions.family import Family, Parameters, Support
from millwright.distributions.mathematics import Array, Mathematics

__all__ = ["Unseen"]


class Unseen(Family):
    """Missing values of a column: flat, since the column's own distribution counts them already.

    Prior draws are draws of that distribution.
    """

    name = "unseen"
    summary = "a missing value, from the distribution of its column"
    truncatable = False

    def __init__(self, family: Family) -> None:
        self.family = family
        self.parameters = family.parameters  # type: ignore[misc]

    def support(self, p: Parameters) -> Support:
        return self.family.support(p)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return m.zeros_like(x)

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self.family.log_cdf(m, x, p)

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self.family.log_survival(m, x, p)

    def quantile(self, q: Array, p: Parameters) -> Array:
        return self.family.quantile(q, p)

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return self.family.draw(generator, size, p)

    def mean(self, p: Parameters) -> Array:
        return self.family.mean(p)
