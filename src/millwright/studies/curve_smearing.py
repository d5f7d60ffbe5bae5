"""A curve smeared by the resolution with which its column is read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from millwright.checks import is_among
from millwright.distributions import on_numpy
from millwright.distributions.mathematics import Array, Mathematics
from millwright.errors import ArgumentError
from millwright.studies.curve_formula import Formula, Values

__all__ = [
    "KERNELS",
    "LARGEST_GAP",
    "USUAL_NODES",
    "SmearedFormula",
    "check_kernel",
    "fine_enough",
]

KERNELS = {
    "normal": "normal, the width is its sd",
    "uniform": "uniform, the width is half of its length",
}
USUAL_NODES = 31
_MOST_NODES = 150
LARGEST_GAP = 0.05
"""Of an error: what the averaging over the resolution may be wrong by."""


def check_kernel(kernel: Any) -> None:
    """Refuse an unknown kernel.

    Raises
    ------
    ArgumentError
        Which names those that there are.
    """
    if not is_among(kernel, KERNELS):
        raise ArgumentError(f"`kernel` is {' or '.join(KERNELS)}, not {kernel!r}.")


@dataclass(frozen=True, kw_only=True)
class SmearedFormula(Formula):
    """The mean of a curve over a kernel around the first column, by Gaussian quadrature.

    Its last column is the width of the kernel at each row. Gauss-Hermite or Gauss-Legendre nodes
    (Abramowitz and Stegun 1964, 25.4.29 and 25.4.46).
    """

    inner: Formula = field(repr=False)
    kernel: str
    nodes: int = USUAL_NODES

    @property
    def traceable(self) -> bool:
        return self.inner.traceable

    @property
    def here(self) -> bool:
        return self.inner.here

    @property
    def at_once(self) -> bool:
        return self.inner.at_once

    @property
    def words(self) -> str:
        return self.inner.words

    @property
    def plain(self) -> dict[str, Any]:
        return self.inner.plain

    @cached_property
    def _rule(self) -> tuple[np.ndarray, np.ndarray]:
        """Places in widths, and weights that add to 1."""
        if self.kernel == "normal":
            z, weights = np.polynomial.hermite_e.hermegauss(self.nodes)
        else:
            z, weights = np.polynomial.legendre.leggauss(self.nodes)
        return z, weights / weights.sum()

    def values(self, columns: Sequence[np.ndarray], unknowns: Values) -> np.ndarray:
        rows = len(columns[0])
        at, wide = self._spread(on_numpy, columns, rows)
        given = {n: one[:, at] if one.ndim == 2 else one for n, one in unknowns.items()}
        found = self.inner.values(wide, given)
        return np.asarray(found.reshape(len(found), rows, self.nodes) @ self._rule[1])

    def once(self, m: Mathematics, columns: Sequence[Array], unknowns: Sequence[Array]) -> Array:
        rows = columns[0].shape[0]
        at, wide = self._spread(m, columns, rows)
        given = [one[at] if np.ndim(one) else one for one in unknowns]
        return self.inner.once(m, wide, given).reshape(rows, self.nodes) @ self._rule[1]

    def gap(self, columns: Sequence[np.ndarray], unknowns: Values, errors: np.ndarray) -> float:
        """Return how far twice the nodes move the curve, at most, in units of the errors."""
        finer = replace(self, nodes=2 * self.nodes + 1)
        found, better = self.values(columns, unknowns), finer.values(columns, unknowns)
        with np.errstate(all="ignore"):
            return float(np.nanmax(np.abs(better - found) / errors, initial=0.0))

    def _spread(
        self, m: Mathematics, columns: Sequence[Array], rows: int
    ) -> tuple[np.ndarray, list[Array]]:
        """Return the row of each node, and the columns at all nodes."""
        at = np.repeat(np.arange(rows), self.nodes)
        steps = np.tile(self._rule[0], rows)
        # One width for all rows is written into the model as a number.
        width = m.broadcast_to(m.asarray(columns[-1]), (rows,))
        first = columns[0][at] + width[at] * steps
        return at, [first, *(one[at] for one in columns[1:-1])]


def fine_enough(
    formula: SmearedFormula, columns: Sequence[np.ndarray], unknowns: Values, errors: np.ndarray
) -> SmearedFormula:
    """Return the formula with as many nodes as its average at some unknowns takes, up to 127."""
    while (
        2 * formula.nodes < _MOST_NODES
        and formula.gap(columns, unknowns, errors) > 0.2 * LARGEST_GAP
    ):
        formula = replace(formula, nodes=2 * formula.nodes + 1)
    return formula
