"""Marginal likelihoods of linear regressions under Zellner's g-prior, g known or with a prior.

With a flat prior of the intercept and of the logarithm of the noise's variance, and slopes that
are normal around 0 with the variance g sigma^2 (X'X)^-1 (Zellner 1986), the Bayes factor of k
columns that explain the share R^2 over none is

    (1 + g)^((n - 1 - k) / 2) / (1 + g (1 - R^2))^((n - 1) / 2)

(Fernandez, Ley and Steel 2001, eq. 8; Liang et al. 2008, eq. 6). With a prior of g, hyper-g or
hyper-g/n with a = 3 (Liang et al. 2008, eqs. 13 and 16), it is integrated over t = log(1 + g) by
Gauss-Legendre pieces, tabulated over log(1 / (1 - R^2)) and interpolated by cubic splines.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np
from scipy.interpolate import CubicSpline
from scipy.special import logsumexp

from millwright.subsets.compiling import compiled

__all__ = ["GPrior", "Table", "weigh"]

_RULE = np.polynomial.legendre.leggauss(8)
_PIECE = 0.5
_LONGEST = 120.0
_STEP = 0.02
_PERFECT = 1e-12
_A = 3.0


class Table(NamedTuple):
    """What a subset weighs, as a function of its columns and R^2.

    Attributes
    ----------
    rows
        Number of rows.
    known
        g where it is known; else 0.
    splines
        Coefficients over pieces of log(1 / (1 - R^2)), (4 quantities, columns, 4, pieces): log
        Bayes factor, and means of s = g / (1 + g), s^2 and s (1 - s R^2).
    step
        Width of the pieces.
    """

    rows: int
    known: float
    splines: np.ndarray
    step: float


@compiled
def weigh(table: Table, count: int, explained: float) -> tuple[float, float, float, float]:
    """Return log Bayes factor over no column, and means of s, s^2 and s (1 - s R^2)."""
    if count == 0:
        return 0.0, 0.0, 0.0, 0.0
    left = max(1.0 - explained, _PERFECT)
    if table.known > 0.0:
        g, n = table.known, table.rows
        log = 0.5 * ((n - 1 - count) * np.log1p(g) - (n - 1) * np.log1p(g * left))
        s = g / (1.0 + g)
        return log, s, s * s, s * (1.0 - s * (1.0 - left))
    at = -np.log(left) / table.step
    piece = min(int(at), table.splines.shape[3] - 1)
    x = (at - piece) * table.step
    found = np.empty(4)
    for which in range(4):
        c = table.splines[which, count, :, piece]
        found[which] = ((c[0] * x + c[1]) * x + c[2]) * x + c[3]
    return found[0], found[1], found[2], found[3]


@dataclass(frozen=True)
class GPrior:
    """What is said of g.

    Attributes
    ----------
    words
        As it was asked for.
    known
        The number; None where it has a prior.
    rows
        Number of rows.
    per_rows
        Whether the prior is hyper-g/n.
    """

    words: str
    known: float | None
    rows: int
    per_rows: bool = False

    @cached_property
    def _nodes(self) -> tuple[np.ndarray, np.ndarray]:
        """Places of t = log(1 + g), and logs of their weights with the prior of g."""
        edges = np.arange(0.0, _LONGEST, _PIECE)
        half = 0.5 * _PIECE
        t = (edges[:, None] + half * (1 + _RULE[0])).ravel()
        weights = np.tile(np.log(half * _RULE[1]), len(edges))
        if self.per_rows:
            # pi(g) = (a - 2) / (2 n) (1 + g / n)^(-a / 2), and dg = (1 + g) dt.
            g = np.expm1(t)
            prior = np.log((_A - 2) / (2 * self.rows)) - _A / 2 * np.log1p(g / self.rows) + t
        else:
            prior = np.log((_A - 2) / 2) - (_A / 2 - 1) * t
        return t, weights + prior

    def log_weights(self, count: int, explained: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return g, (nodes,), and logs of likelihood times prior at each, (..., nodes)."""
        if self.known is not None:
            g = np.array([self.known])
            left = np.maximum(1 - np.asarray(explained), _PERFECT)[..., None]
            n = self.rows
            logs = 0.5 * ((n - 1 - count) * np.log1p(g) - (n - 1) * np.log1p(g * left))
            return g, logs
        t, prior = self._nodes
        left = np.maximum(1 - np.asarray(explained), _PERFECT)[..., None]
        with np.errstate(divide="ignore"):
            grown = np.logaddexp(t + np.log(left), np.log1p(-left))
        logs = 0.5 * (self.rows - 1 - count) * t - 0.5 * (self.rows - 1) * grown + prior
        return np.expm1(t), logs

    def table(self, most: int, highest: float) -> Table:
        """Return weights for up to `most` columns that explain up to `highest`."""
        if self.known is not None:
            return Table(self.rows, float(self.known), np.zeros((4, 1, 4, 1)), 1.0)
        end = -np.log(max(1 - highest, _PERFECT)) + 2 * _STEP
        grid = np.arange(0.0, end + 4 * _STEP, _STEP)
        explained = -np.expm1(-grid)
        found = np.zeros((4, most + 1, 4, len(grid) - 1))
        for count in range(1, most + 1):
            for which, values in enumerate(self.means(count, explained)):
                found[which, count] = CubicSpline(grid, values).c
        return Table(self.rows, 0.0, found, _STEP)

    def means(self, count: int, explained: np.ndarray) -> tuple[np.ndarray, ...]:
        """Return the four quantities of `Table` at shares explained, exactly."""
        g, logs = self.log_weights(count, explained)
        total = logsumexp(logs, axis=-1)
        chances = np.exp(logs - total[..., None])
        s = g / (1 + g)
        noise = s * (1 - s * np.asarray(explained)[..., None])
        return total, chances @ s, chances @ s**2, np.sum(chances * noise, axis=-1)
