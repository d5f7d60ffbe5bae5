"""Many readings of a smooth function gathered into few, at the nodes of a Gauss rule.

The Gauss rule for the places of the readings, each weighing as its reading does, integrates
polynomials of a degree below twice the number of its nodes exactly (Golub and Welsch 1969,
"Calculation of Gauss Quadrature Rules", Mathematics of Computation 23). Hence the polynomials that
are 1 at one node and 0 at all others are orthogonal over the readings. As far as the function is a
polynomial of a degree below the number of nodes, its likelihood is therefore that of one
independent reading at each node, and of what these leave, which says how large the noise is. How
much of a Gaussian process is no such polynomial follows from its kernel.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from scipy.linalg import eigh_tridiagonal
from scipy.optimize import minimize

from millwright.language.printing import number_text
from millwright.studies.smooth_process import covariance

__all__ = [
    "MOST_NODES",
    "NEGLIGIBLE",
    "Gathered",
    "enough_for_function",
    "enough_nodes",
    "gathered",
]

NEGLIGIBLE = 0.1
"""Up to which `Gathered.lost` nothing needs to be said."""

MOST_NODES = 96
_MOST_OF_FUNCTION = 48
"""Nodes that a study takes by itself at most: each step factors a matrix of so many rows."""

_COUNTS = (12, 16, 24, 32, 48, 64, MOST_NODES)
# A posterior reaches to lengths shorter than the likeliest one.
_SHORTER = 0.6
# Counts and yes/no leave it wider.
_FAR_SHORTER = 0.5
_TOGETHER = 1e-10
_NOTHING = 1e-14
_LOG_2PI = math.log(2 * math.pi)


@dataclass(frozen=True, eq=False, kw_only=True)
class Gathered:
    """Readings at nodes in place of those of the rows.

    Attributes
    ----------
    nodes, values, errors
        Places, what is read there, and its error in units of the noise, shape (nodes,).
    count
        Nodes of the rule, those that say nothing included.
    degrees
        How many rows there are more than nodes.
    left
        Weighted sum of squares that no function of the nodes explains.
    constant
        What the log density of the rows has more, whatever the unknowns are.
    x
        Places of the rows, (rows,).
    basis
        Orthonormal: the polynomial of each node at each row, times the root of the row's weight
        and the error of the node, (rows, nodes).
    weights
        Inverse squared errors of the rows, in units of the noise, (rows,).
    """

    nodes: np.ndarray
    values: np.ndarray
    errors: np.ndarray
    count: int
    degrees: int
    left: float
    constant: float
    x: np.ndarray
    basis: np.ndarray
    weights: np.ndarray

    @property
    def shares(self) -> np.ndarray:
        """The polynomial of each node at each row: 1 at its node, 0 at others; (rows, nodes)."""
        found: np.ndarray = self.basis / (np.sqrt(self.weights)[:, None] * self.errors)
        return found

    def left_out(self, kernel: str, length: float) -> float:
        """Return the share of the function's variance that interpolation at the nodes misses.

        The weighted mean over the rows, from the kernel alone.
        """
        total = self.weights.sum()
        tie = covariance(kernel, self.x, self.nodes, np.array([[length]]))[0]
        met = np.sqrt(self.weights / total) @ (self.basis * tie) @ (self.errors**-1)
        return max(2.0 - 2.0 * float(met) / math.sqrt(total), 0.0)

    def lost(self, kernel: str, height: float, length: float, noise: float) -> float:
        """Return the sum over the rows of the variance that is missed, over that of their noise.

        On average over such curves at most a fourth of its square is lost, in nats: half of the
        sum of v - log(1 + v) over directions, whose variances v over the noise sum to it.
        """
        share = self.left_out(kernel, length)
        return float(self.weights.sum()) * (height / noise) ** 2 * share

    def term(self, noise: str | None) -> str:
        """Return what the log density of the rows has more than that of the nodes.

        Parameters
        ----------
        noise
            What the noise is called; None where the errors are known.
        """
        if noise is None:
            return _text(self.constant - 0.5 * self.left)
        constant, left = _text(self.constant), _text(0.5 * self.left)
        return f"{constant} - {self.degrees} * log({noise}) - {left} / {noise} ** 2"


def _text(number: float) -> str:
    return number_text(float(f"{number:.10g}"))


def gathered(x: np.ndarray, y: np.ndarray, weights: np.ndarray, count: int) -> Gathered:
    """Gather readings into `count`, or as many as there are different places if those are fewer.

    Parameters
    ----------
    x, y, weights
        Places, readings and inverse squared errors, in units of the noise, (rows,).
    """
    return next(_each(x, y, weights, [min(count, len(np.unique(x)))]))


def _each(
    x: np.ndarray, y: np.ndarray, weights: np.ndarray, counts: list[int]
) -> Iterator[Gathered]:
    """Gather readings into rising numbers of nodes."""
    middle, half = 0.5 * (x.max() + x.min()), 0.5 * np.ptp(x)
    roots = np.sqrt(weights)
    vectors, diagonal, beside = _orthogonal((x - middle) / half, roots, counts[-1])
    read = vectors.T @ (roots * y)
    for count in counts:
        size = min(count, len(diagonal))
        places, turn = eigh_tridiagonal(diagonal[:size], beside[: size - 1])
        masses = weights.sum() * turn[0] ** 2
        # A node of next to no weight says nothing of the curve: it counts as what is left.
        told = masses > _NOTHING * weights.min()
        places, masses, turn = places[told], masses[told], turn[:, told] * np.sign(turn[0, told])
        at_nodes = turn.T @ read[:size]
        basis = vectors[:, :size] @ turn
        degrees = len(x) - len(places)
        logs = np.log(weights).sum() - np.log(masses).sum()
        yield Gathered(
            nodes=middle + half * places,
            values=at_nodes / np.sqrt(masses),
            errors=masses**-0.5,
            count=size,
            degrees=degrees,
            left=float(np.sum((roots * y - basis @ at_nodes) ** 2)) if degrees else 0.0,
            constant=float(0.5 * (logs - degrees * _LOG_2PI)),
            x=x,
            basis=basis,
            weights=weights,
        )


def _orthogonal(
    x: np.ndarray, roots: np.ndarray, count: int
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return orthonormal polynomials over the rows, and the three terms of their recursion.

    By Lanczos' process, orthogonalised twice at each step (Gragg and Harwood 1984, "The
    numerically stable reconstruction of Jacobi matrices from spectral data").

    Returns
    -------
    Times the roots of the weights, (rows, up to count); the diagonal and what stands beside it.
    """
    vectors = [roots / np.linalg.norm(roots)]
    diagonal: list[float] = []
    beside: list[float] = []
    while True:
        ahead = x * vectors[-1]
        diagonal.append(float(vectors[-1] @ ahead))
        so_far = np.array(vectors)
        for _ in range(2):
            ahead = ahead - (so_far @ ahead) @ so_far
        size = float(np.linalg.norm(ahead))
        if len(vectors) == count or size < _TOGETHER:
            return so_far.T, np.array(diagonal), np.array(beside)
        beside.append(size)
        vectors.append(ahead / size)


def enough_nodes(
    kernel: str, x: np.ndarray, y: np.ndarray, weights: np.ndarray, noise_known: bool
) -> tuple[Gathered, float]:
    """Gather readings into as few as lose next to nothing where the unknowns are likely.

    Returns
    -------
    The readings, at the most nodes if none are enough; and what they lose.
    """
    places = len(np.unique(x))
    counts = [count for count in _COUNTS if count < places]
    made = list(_each(x, y, weights, [*counts, min(places, MOST_NODES)]))
    height, length, noise = _likeliest(kernel, made[-1], noise_known)
    for one in made:
        lost = one.lost(kernel, height, _SHORTER * length, noise)
        if lost < NEGLIGIBLE:
            break
    return one, lost


def enough_for_function(
    kernel: str,
    x: np.ndarray,
    rough: np.ndarray,
    information: np.ndarray | None,
    scale: float,
    total: float,
) -> tuple[Gathered, float]:
    """Take as few nodes as lose next to nothing of a function that counts or yes/no rest on.

    Parameters
    ----------
    rough
        A rough reading of the function in each row, and `information` what it is worth; None if
        its noise is unknown.
    scale
        How much the function moves for 1 of those readings.
    total
        Information of all rows about the function.

    Returns
    -------
    Nodes for rows that all weigh the same, and what they lose.
    """
    places = len(np.unique(x))
    weights = np.ones(len(x))
    known = weights if information is None else information
    look = gathered(x, rough, known, _MOST_OF_FUNCTION)
    height, length, _ = _likeliest(kernel, look, information is not None)
    counts = [count for count in _COUNTS if count < min(places, _MOST_OF_FUNCTION)]
    for one in _each(x, rough, weights, [*counts, min(places, _MOST_OF_FUNCTION)]):
        noise = math.sqrt(len(x) / total)
        lost = one.lost(kernel, scale * height, _FAR_SHORTER * length, noise)
        if lost < NEGLIGIBLE:
            break
    return one, lost


def _likeliest(kernel: str, made: Gathered, noise_known: bool) -> tuple[float, float, float]:
    """Return height, length and noise of the largest likelihood, the level chosen for each."""
    shares = made.errors**-2 / made.weights.sum()
    away = made.values - shares @ made.values
    sd = math.sqrt(shares @ away**2 + made.left / made.weights.sum())
    span = float(np.ptp(made.x))

    def cost(logs: np.ndarray) -> float:
        height, length, noise = np.exp(logs)
        own = height**2 * covariance(kernel, made.nodes, made.nodes, np.array([[length]]))[0]
        root = np.linalg.cholesky(own + np.diag((noise * made.errors) ** 2))
        both = np.linalg.solve(root, np.column_stack([np.ones_like(made.values), made.values]))
        level, half = both.T
        half = half - level * (level @ half) / (level @ level)
        rest = made.degrees * logs[2] + 0.5 * made.left / noise**2
        return float(np.log(np.diag(root)).sum() + 0.5 * half @ half + rest)

    noise = 1.0 if noise_known else sd / 3
    ends = [(sd / 1e3, 10 * sd), (span / 1e3, 3 * span), (noise, noise)]
    if not noise_known:
        ends[2] = (sd / 1e4, 3 * sd)
    found = [
        minimize(cost, np.log([sd, span / part, noise]), bounds=np.log(ends), method="L-BFGS-B")
        for part in (2, 8, 30)
    ]
    height, length, noise = np.exp(min(found, key=lambda one: float(one.fun)).x)
    return float(height), float(length), float(noise)
