"""What every distribution of vectors, matrices and labels declares.

Values carry the event in their last axis (two for a matrix), K long; the axes before it are
independent copies. Parameters of rank 0 have the shape of the copies, those of rank 1 one axis
more, those of rank 2 two more. A vector family states its own map between free coordinates and
its support, since the support is not a box.
"""

from __future__ import annotations

from abc import abstractmethod
from typing import ClassVar

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.family import Distribution, Event, Parameters
from millwright.distributions.mathematics import Array, Mathematics

__all__ = ["LabelFamily", "VectorFamily"]


class VectorFamily(Distribution):
    """A family of distributions of vectors or matrices over a label set.

    Attributes
    ----------
    fewest
        Least number of labels.
    over_rows
        Whether a whole column of data can be one vector, its rows depending on each other.
    """

    event: ClassVar[Event] = "vector"
    fewest: ClassVar[int] = 1
    over_rows: ClassVar[bool] = False

    def free_size(self, size: int) -> int:
        """Return how many free coordinates a vector over `size` labels has."""
        return size

    def from_free(self, m: Mathematics, u: Array, p: Parameters) -> tuple[Array, Array]:
        """Map free coordinates (..., free size) onto the support.

        Returns
        -------
        The values, and the log determinant of the map's derivative for each copy.
        """
        return u, m.sum(m.zeros_like(u), axis=-1)

    def to_free(self, x: Array, p: Parameters) -> np.ndarray:
        """Return the free coordinates of values in the support (NumPy)."""
        return np.asarray(x, dtype=float)

    def contains(self, x: Array, p: Parameters) -> np.ndarray:
        """Return, for each copy, whether the values lie in the support (NumPy)."""
        return np.isfinite(x).all(axis=-1)

    def contents(self) -> str:
        """Say which values have positive density."""
        return "finite numbers"


class LabelFamily(Distribution):
    """A family of distributions of labels, held as their positions 0 to K - 1."""

    event: ClassVar[Event] = "label"
    whole: ClassVar[bool] = True

    @abstractmethod
    def log_probabilities(self, m: Mathematics, p: Parameters) -> Array:
        """Return the log probability of each label, shape (..., K)."""

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        table = self.log_probabilities(m, p)
        # A comparison with every position: cheap for the few labels there are, and its
        # derivative touches no entry outside the chosen one.
        chosen = m.asarray(x)[..., None] == m.arange(table.shape[-1])
        return m.sum(m.where(chosen, table, 0.0), axis=-1)

    def probabilities(self, p: Parameters) -> np.ndarray:
        """Return the probability of each label, shape (..., K) (NumPy)."""
        return np.exp(self.log_probabilities(on_numpy, p))

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        upto = np.cumsum(self.probabilities(p), axis=-1)
        u = generator.random(size)[..., None] * upto[..., -1:]
        return np.sum(u > upto[..., :-1], axis=-1).astype(float)

    def mean(self, p: Parameters) -> Array:
        # Positions of labels are names, not numbers.
        return np.full(np.shape(self.probabilities(p))[:-1], np.nan)
