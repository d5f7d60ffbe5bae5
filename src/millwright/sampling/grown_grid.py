"""A grid over a few unknowns that grows until its edge carries no mass.

The grid stands in the directions of the curvature at the highest point (Rue, Martino and Chopin
2009, "Approximate Bayesian inference for latent Gaussian models", section 6.5) and grows from cell
to neighbouring cell. Between its points the density is that of a mixture of normals, one at each,
whose tails are wider than the grid's.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
from scipy.special import logsumexp

from millwright.errors import SamplingError
from millwright.wording import setting

__all__ = ["MOST_UNKNOWNS", "GrownGrid", "grown"]

MOST_UNKNOWNS = 4
"""Unknowns that a grid can be laid over: its cells grow as a power of their number."""

Look = Callable[[np.ndarray], tuple[np.ndarray, np.ndarray]]
LogMass = Callable[[np.ndarray], np.ndarray]

_STEPS = {1: 0.5, 2: 0.6, 3: 0.8, 4: 1.0}
"""Distance of neighbouring points in standard deviations, by the number of unknowns."""

_ROUGH = 1.5
"""The same for a first grid around the highest point, whose mass gives the standard deviations."""

_WIDTH = 0.8
"""Sd of each normal over that distance: the mixture is smooth to six digits."""

_WIDEST = 2.0
"""Of the standard deviations of the mass, over those of the curvature."""

_REACH = 5.0
"""How far below the highest log mass a cell may lie to grow on; more until the edge is light."""

_EDGE = 5e-3
_MOST_CELLS = 6000
_DROP = 2.0
_HALVINGS = 30
_TOGETHER = 500


@dataclass(frozen=True, kw_only=True)
class GrownGrid:
    """Points with the logarithms of their shares of the mass.

    Attributes
    ----------
    points
        Shape (cells, unknowns).
    log_shares
        Shape (cells,); the shares add up to 1.
    root
        Square root of the covariance of the normal at each point, (unknowns, unknowns).
    marks
        What else was found at each point, shape (cells, marks).
    edge
        Share of the cells at the edge, from which the grid did not grow on.
    """

    points: np.ndarray
    log_shares: np.ndarray
    root: np.ndarray
    marks: np.ndarray
    edge: float

    def draw(self, generator: np.random.Generator, n: int) -> tuple[np.ndarray, np.ndarray]:
        """Return draws of the mixture, (n, unknowns), and the cell of each, (n,)."""
        cells = generator.choice(len(self.points), size=n, p=np.exp(self.log_shares))
        noise = generator.standard_normal((n, self.points.shape[1]))
        return self.points[cells] + noise @ self.root.T, cells

    def log_density(self, theta: np.ndarray) -> np.ndarray:
        """Return the log density of the mixture at points, shape (n,)."""
        d = self.points.shape[1]
        own = np.linalg.solve(self.root, self.points.T)
        constant = np.log(np.abs(np.linalg.det(self.root))) + 0.5 * d * np.log(2 * np.pi)
        found = [
            logsumexp(self.log_shares[:, None] - 0.5 * _squares(own, part), axis=0)
            for part in _parts(np.linalg.solve(self.root, theta.T))
        ]
        return np.concatenate(found) - constant


def _parts(columns: np.ndarray) -> Iterator[np.ndarray]:
    for at in range(0, columns.shape[1], _TOGETHER):
        yield columns[:, at : at + _TOGETHER]


def _squares(points: np.ndarray, others: np.ndarray) -> np.ndarray:
    """Return squared distances between columns, shape (points, others)."""
    return ((points[:, :, None] - others[:, None, :]) ** 2).sum(axis=0)


def grown(look: Look, peaks: np.ndarray, scales: np.ndarray) -> GrownGrid:
    """Grow a grid around peaks, the highest first.

    Parameters
    ----------
    look
        Log density, up to a constant, at points (n, unknowns), -inf where there is none; and marks
        (n, marks) to be kept with each.
    peaks
        Where it begins, shape (peaks, unknowns).
    scales
        Rough scales of the unknowns, shape (unknowns,).

    Raises
    ------
    SamplingError
        If the mass does not end within the most cells that are taken.
    """
    d = peaks.shape[1]
    if not d:
        return _lattice(look, peaks, np.zeros((0, 0)))
    directions = _directions(lambda theta: look(theta)[0], peaks[0], scales)
    rough = _lattice(look, peaks, _ROUGH * directions)
    return _lattice(look, peaks, _STEPS[d] * _spread(rough, directions))


def _lattice(look: Look, peaks: np.ndarray, step: np.ndarray) -> GrownGrid:
    """Grow a lattice whose cells are apart by the columns of `step`."""
    d = len(step)
    inverse = np.linalg.inv(step)
    cells = _Cells(
        lambda at: look(peaks[0] + np.asarray(at, dtype=float).reshape(len(at), d) @ step.T)
    )
    first = [tuple(int(i) for i in np.rint(inverse @ (peak - peaks[0]))) for peak in peaks]
    cells.look_at(sorted(set(first)))
    reach, edge = _REACH, 1.0
    while edge > _EDGE:
        edge = cells.grow(reach)
        reach += 1.0
    where = np.array(list(cells.found), dtype=float)
    where = where.reshape(len(cells.found), d)
    masses = np.array(list(cells.found.values()))
    kept = np.isfinite(masses)
    return GrownGrid(
        points=peaks[0] + where[kept] @ step.T,
        log_shares=masses[kept] - logsumexp(masses[kept]),
        root=_WIDTH * step,
        marks=np.array([cells.marks[cell] for cell in cells.found])[kept],
        edge=edge,
    )


def _spread(lattice: GrownGrid, directions: np.ndarray) -> np.ndarray:
    """Return standard deviations along the main directions of a lattice's mass, as columns.

    In no direction are they far beyond those of the curvature: mass that is spread wider than
    that is in separate heaps, and steps across all of them would miss each.
    """
    shares = np.exp(lattice.log_shares)
    away = np.linalg.solve(directions, (lattice.points - shares @ lattice.points).T)
    roots, vectors = np.linalg.eigh((away * shares) @ away.T)
    return np.asarray(directions @ (vectors * np.sqrt(np.minimum(roots, _WIDEST**2))))


class _Cells:
    """Cells of a lattice with their log masses."""

    def __init__(
        self, look: Callable[[list[tuple[int, ...]]], tuple[np.ndarray, np.ndarray]]
    ) -> None:
        self.look = look
        self.found: dict[tuple[int, ...], float] = {}
        self.marks: dict[tuple[int, ...], np.ndarray] = {}
        self.passed: set[tuple[int, ...]] = set()

    def look_at(self, cells: list[tuple[int, ...]]) -> None:
        values, marks = self.look(cells)
        self.found.update(zip(cells, values.tolist(), strict=True))
        self.marks.update(zip(cells, marks, strict=True))

    def grow(self, reach: float) -> float:
        """Add neighbours of all cells within the reach of the highest; return the edge's share.

        Raises
        ------
        SamplingError
            If there is no end to it.
        """
        while True:
            least = max(self.found.values()) - reach
            new = [
                cell
                for cell, value in self.found.items()
                if value >= least and cell not in self.passed
            ]
            if not new:
                break
            self.passed.update(new)
            around = {one for cell in new for one in _neighbours(cell)} - self.found.keys()
            if len(self.found) + len(around) > _MOST_CELLS:
                raise SamplingError(
                    f"The grid over the unknowns has {len(self.found)} cells, and its edge still "
                    "carries mass: the posterior is too far from a normal there. Use "
                    f"{setting('method', 'no_u_turn')}, or give scales tighter priors."
                )
            if around:
                self.look_at(sorted(around))
        total = logsumexp(list(self.found.values()))
        edge = [value for cell, value in self.found.items() if cell not in self.passed]
        return float(np.exp(logsumexp(edge) - total)) if edge else 0.0


def _neighbours(cell: tuple[int, ...]) -> list[tuple[int, ...]]:
    return [
        (*cell[:at], cell[at] + by, *cell[at + 1 :]) for at in range(len(cell)) for by in (-1, 1)
    ]


def _directions(log_mass: LogMass, peak: np.ndarray, scales: np.ndarray) -> np.ndarray:
    """Return standard deviations along the directions of the curvature, as columns."""
    d = len(peak)
    steps = _steps(log_mass, peak, scales)
    pairs = [(i, j) for i in range(d) for j in range(i, d)]
    signs = np.array([(1, 1), (1, -1), (-1, 1), (-1, -1)])
    corners = [
        peak + a * steps * np.eye(d)[i] + b * steps * np.eye(d)[j]
        for i, j in pairs
        for a, b in signs
    ]
    values = log_mass(np.array(corners)).reshape(len(pairs), 4)
    curvature = np.zeros((d, d))
    for (i, j), (pp, pm, mp, mm) in zip(pairs, values, strict=True):
        curvature[i, j] = curvature[j, i] = -(pp - pm - mp + mm) / 4
    # In units of the steps, which are themselves of the order of a standard deviation.
    roots, vectors = np.linalg.eigh(np.nan_to_num(curvature, posinf=0.0, neginf=0.0))
    return steps[:, None] * vectors / np.sqrt(np.clip(roots, 0.05, 100.0))


def _steps(log_mass: LogMass, peak: np.ndarray, scales: np.ndarray) -> np.ndarray:
    """Return steps along each unknown that lower the log mass by at most 2 on either side."""
    d = len(peak)
    steps = np.array(scales, dtype=float)
    top = float(log_mass(peak[None])[0])
    for _ in range(_HALVINGS):
        both = np.concatenate([peak + np.diag(steps), peak - np.diag(steps)])
        drop = top - log_mass(both).reshape(2, d).min(axis=0)
        far = ~(drop <= _DROP)
        if not far.any():
            break
        steps = np.where(far, steps / 2, steps)
    return steps
