"""Looking for separate modes on purpose, before anything is sampled.

No statistic of the draws shows a mode that no chain visits. So many climbs start from very
different places: from the prior, from around the first peak at distances over three orders of
magnitude, and from there along single coordinates, since each kind finds modes that the others
miss. Ends that settled are separate peaks where the straight line between them dips. What each
holds of the posterior is estimated by importance sampling from Student-t distributions at the
peaks (Oh and Berger 1993, "Integration of multimodal functions by Monte Carlo importance
sampling", Journal of the American Statistical Association 88).

A narrow mode of many dimensions away from every start is found by nobody: finding nothing further
is no proof that there is nothing.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from millwright.sampling.mode import downhill_of
from millwright.sampling.target import Target

__all__ = ["DF", "Peaks", "find_peaks", "t_log_density"]

CLIMBS = 128
DF = 5.0
DIP = 2.0
"""How many units of log density the line between two separate peaks dips below the lower one."""

_SETTLED = 0.01
_STEPS_OF_A_CLIMB = 150
_LARGEST_WITH_CURVATURE = 200
_POINTS = 1000
_MOST_PEAKS = 24
_LEAST_ESS = 50.0
# Of eight climbs four start from the prior, three around the first peak, one along a coordinate.
_KINDS = ("prior", "around", "prior", "around", "prior", "around", "prior", "along")

Downhill = Callable[[np.ndarray], tuple[float, np.ndarray]]


@dataclass(frozen=True)
class Peaks:
    """Separate peaks of a target, the one with the largest mass first.

    Attributes
    ----------
    positions
        Unconstrained coordinates, shape (peaks, dimension).
    log_densities
        Values there, shape (peaks,).
    factors
        Cholesky factors of the inverse curvature there, shape (peaks, dimension, dimension);
        empty where there are too many dimensions for it.
    masses, errors
        Estimated share of the posterior around each, with its standard error; NaN if unknown.
    climbs, evaluations
        How many climbs and gradients the search took.
    cut
        Whether the search ended at its largest number of gradients.
    """

    positions: np.ndarray
    log_densities: np.ndarray
    factors: np.ndarray
    masses: np.ndarray
    errors: np.ndarray
    climbs: int
    evaluations: int
    cut: bool

    @property
    def several(self) -> bool:
        """Whether there is more than one."""
        return len(self.positions) > 1

    @property
    def record(self) -> dict[str, Any]:
        """All of it as plain values; places only where there are several peaks."""
        found: dict[str, Any] = {
            "climbs": self.climbs,
            "evaluations": self.evaluations,
            "cut": self.cut,
            "peaks": len(self.positions),
        }
        if self.several:
            # JSON has no NaN: an unknown mass is none.
            found |= {
                "positions": self.positions.tolist(),
                "log_densities": self.log_densities.tolist(),
                "factors": self.factors.tolist(),
                "masses": [None if np.isnan(m) else float(m) for m in self.masses],
                "errors": [None if np.isnan(e) else float(e) for e in self.errors],
            }
        return found

    @classmethod
    def from_record(cls, record: Mapping[str, Any]) -> Peaks:
        """Return what `record` was made from; without places where there was one peak."""

        def numbers(name: str) -> np.ndarray:
            return np.array(
                [np.nan if v is None else v for v in record.get(name, ())], dtype=float
            )

        return cls(
            np.array(record.get("positions", np.zeros((0, 0))), dtype=float),
            numbers("log_densities"),
            np.array(record.get("factors", np.zeros((0, 0, 0))), dtype=float),
            numbers("masses"),
            numbers("errors"),
            int(record["climbs"]),
            int(record["evaluations"]),
            bool(record["cut"]),
        )


def find_peaks(target: Target, seed: int, most: int = 3000) -> Peaks:
    """Climb from many places and tell separate peaks apart.

    Parameters
    ----------
    most
        Most gradients to spend on climbs.
    """
    search = _Search(target, seed, most)
    search.climb_all()
    return search.result()


@dataclass
class _End:
    """A place where a climb settled, with what it belongs to.

    `curvature` is minus the matrix of second derivatives, or None in too many dimensions.
    """

    position: np.ndarray
    value: float
    curvature: np.ndarray | None
    peak: int


class _Search:
    def __init__(self, target: Target, seed: int, most: int) -> None:
        self.target = target
        self.most = most
        self.generator = np.random.default_rng([seed, 11])
        self.slope: Downhill = downhill_of(target)
        self.spent = 0
        self.climbs = 0
        self.ends: list[_End] = []
        self.peaks: list[_End] = []

    def downhill(self, position: np.ndarray) -> tuple[float, np.ndarray]:
        self.spent += 1
        return self.slope(position)

    def climb_all(self) -> None:
        starts = self.target.starts(self.generator, CLIMBS)
        middle = np.nanmedian(starts, axis=0)
        drawn = iter(self._stretched(starts, middle))
        mirrored = 0
        for number in range(CLIMBS):
            if self.spent >= self.most or len(self.peaks) >= _MOST_PEAKS:
                return
            kind = _KINDS[number % len(_KINDS)]
            if mirrored < len(self.peaks):
                # Modes come in pairs, as with signs that can be turned round.
                start = 2.0 * middle - self.peaks[mirrored].position
                mirrored += 1
            elif kind == "prior" or not self.peaks:
                start = next(drawn)
            else:
                start = self._moved(kind)
            if np.isfinite(start).all():
                self._climb(start)

    def _stretched(self, starts: np.ndarray, middle: np.ndarray) -> np.ndarray:
        """Move every second start out: a wide mode draws in all that is near the middle."""
        stretch = np.where(
            np.arange(len(starts)) % 2, self.generator.uniform(1, 5, len(starts)), 1.0
        )
        return np.asarray(middle + stretch[:, None] * (starts - middle))

    def _moved(self, kind: str) -> np.ndarray:
        """Return a place at a random distance from the first peak."""
        peak = self.peaks[0]
        reach = 10.0 ** self.generator.uniform(0.5, 3.5)
        step = self.generator.standard_normal(len(peak.position))
        if kind == "along":
            only = int(self.generator.integers(len(step)))
            step = np.where(np.arange(len(step)) == only, np.sign(step), 0.0)
        return peak.position + self._widths(peak) * reach * step

    def _widths(self, end: _End) -> np.ndarray:
        if end.curvature is None:
            return np.asarray(self.rough)
        return np.sqrt(np.diag(np.linalg.inv(end.curvature)))

    def _climb(self, start: np.ndarray) -> None:
        # Heavy, and not needed to read results.
        from scipy import optimize

        value, _ = self.downhill(start)
        if not np.isfinite(value):
            return
        self.climbs += 1

        def seen(intermediate_result: Any) -> None:
            if self._basin(np.asarray(intermediate_result.x), float(intermediate_result.fun)):
                raise StopIteration

        left = max(1, self.most - self.spent)
        found = optimize.minimize(
            self.downhill,
            start,
            jac=True,
            method="L-BFGS-B",
            callback=seen,
            options={"maxfun": min(_STEPS_OF_A_CLIMB, left), "ftol": 1e-10, "gtol": 1e-6},
        )
        if np.isfinite(found.fun) and self._basin(found.x, float(found.fun)) is None:
            self._settle(found)

    def _basin(self, position: np.ndarray, value: float) -> _End | None:
        """Return the known end that a place lies beside, on its own quadratic."""
        for end in self.ends:
            apart = position - end.position
            if end.curvature is None:
                near = bool(np.all(np.abs(apart) < 0.1 * self.rough))
                if near and abs(value - end.value) < 0.5:
                    return end
                continue
            rise = 0.5 * float(apart @ end.curvature @ apart)
            if rise < 0.5 and abs(value - end.value - rise) < 0.25:
                return end
        return None

    def _settle(self, found: Any) -> None:
        """Take the end of a climb for a peak if it is one, apart from those known."""
        end = self._polished(found)
        if end is None or self._basin(end.position, end.value) is not None:
            return
        for peak in self.peaks:
            if not self._dips(end, peak):
                # A rise on the flank of a known peak: later climbs that end there are known too.
                end.peak = peak.peak
                self.ends.append(end)
                return
        end.peak = len(self.peaks)
        self.ends.append(end)
        self.peaks.append(end)

    def _polished(self, found: Any) -> _End | None:
        """Take Newton steps from the end of a climb; None if there is no peak there."""
        position, value = np.asarray(found.x, dtype=float), float(found.fun)
        widths = _rough_widths(found)
        self.rough = widths
        if len(position) > _LARGEST_WITH_CURVATURE:
            return _End(position, value, None, -1) if found.success else None
        for _ in range(4):
            curvature, gradient, widths = self._curvature(position, widths)
            try:
                factor = np.linalg.cholesky(curvature)
            except np.linalg.LinAlgError:
                return None
            half = np.linalg.solve(factor, gradient)
            if 0.5 * float(half @ half) < _SETTLED:
                return _End(position, value, curvature, -1)
            following = position - np.linalg.solve(factor.T, half)
            new, _ = self.downhill(following)
            if not new <= value:
                return None
            position, value = following, new
        return None

    def _curvature(
        self, position: np.ndarray, widths: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Return second derivatives by central differences of the gradient, and the gradient."""
        _, gradient = self.downhill(position)
        matrix = np.zeros((len(position), len(position)))
        for _ in range(2):
            steps = 1e-3 * widths
            for at, step in enumerate(steps):
                move = np.zeros_like(position)
                move[at] = step
                above, below = self.downhill(position + move)[1], self.downhill(position - move)[1]
                matrix[at] = (above - below) / (2 * step)
            matrix = 0.5 * (matrix + matrix.T)
            with np.errstate(all="ignore"):
                own = 1.0 / np.sqrt(np.diag(matrix))
            own = np.where(np.isfinite(own), own, widths)
            if np.all((own > 0.05 * widths) & (own < 20 * widths)):
                break
            widths = own
        return matrix, gradient, own

    def _dips(self, one: _End, other: _End) -> bool:
        """Whether the straight line between two peaks goes down well below the lower of them."""
        lower = max(one.value, other.value)
        for share in np.linspace(0, 1, 34)[1:-1]:
            place = one.position + share * (other.position - one.position)
            if self.downhill(place)[0] > lower + DIP:
                return True
        return False

    def result(self) -> Peaks:
        cut = self.spent >= self.most
        dimension = self.target.dimension
        if not self.peaks:
            empty = np.zeros(0)
            return Peaks(
                np.zeros((0, dimension)), empty, np.zeros((0, 0, 0)), empty, empty,
                self.climbs, self.spent, cut,
            )  # fmt: skip
        positions = np.stack([peak.position for peak in self.peaks])
        values = -np.array([peak.value for peak in self.peaks])
        curvatures = [peak.curvature for peak in self.peaks if peak.curvature is not None]
        known = len(curvatures) == len(positions)
        factors = np.zeros((0, 0, 0))
        if known:
            factors = np.linalg.cholesky(np.linalg.inv(np.stack(curvatures)))
        masses = errors = np.full(len(positions), np.nan)
        if len(positions) == 1:
            masses, errors = np.ones(1), np.zeros(1)
        elif known:
            masses, errors = self._masses(positions, values, factors)
        order = np.argsort(-np.where(np.isnan(masses), values, masses), kind="stable")
        return Peaks(
            positions[order],
            values[order],
            factors[order] if known else factors,
            masses[order],
            errors[order],
            self.climbs,
            self.spent,
            cut,
        )

    def _masses(
        self, positions: np.ndarray, values: np.ndarray, factors: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray]:
        """Estimate the share of each peak by importance sampling; NaN where that fails."""
        count, dimension = positions.shape
        each = max(50, _POINTS // count)
        normal = self.generator.standard_normal((count, each, dimension))
        shrink = np.sqrt(self.generator.chisquare(DF, (count, each, 1)) / DF)
        spread = np.einsum("kij,knj->kni", factors, normal) / shrink
        points = (positions[:, None] + spread).reshape(-1, dimension)
        heights = np.array([-self.downhill(point)[0] for point in points])
        apart = np.stack(
            [t_log_density(points, p, f) for p, f in zip(positions, factors, strict=True)], axis=1
        )
        # What a peak's own quadratic would hold decides whose a point between two is.
        sizes = values + np.log(np.abs(np.diagonal(factors, axis1=1, axis2=2))).sum(axis=1)
        whose = apart + sizes
        whose = np.exp(whose - np.logaddexp.reduce(whose, axis=1, keepdims=True))
        logs = heights - np.logaddexp.reduce(apart, axis=1)
        weights = np.exp(logs - logs.max())[:, None] * whose
        totals = weights.sum(axis=0)
        with np.errstate(all="ignore"):
            enough = totals**2 / (weights**2).sum(axis=0)
        masses = totals / totals.sum()
        # Ratio estimate: variance of the mean of w (whose - mass) over the points.
        left = weights - masses * weights.sum(axis=1, keepdims=True)
        errors = np.sqrt((left**2).sum(axis=0)) / totals.sum()
        big = masses > 0.01
        if not np.isfinite(masses).all() or (enough[big] < _LEAST_ESS).any():
            return np.full(count, np.nan), np.full(count, np.nan)
        return masses, errors


def _rough_widths(found: Any) -> np.ndarray:
    """Return scales from the quasi-Newton matrix that a climb has built up."""
    count = len(found.x)
    matrix = found.hess_inv
    if count > _LARGEST_WITH_CURVATURE:
        # Its diagonal by probing with random signs is enough for a first scale.
        signs = np.random.default_rng(0).choice([-1.0, 1.0], (8, count))
        squares = np.mean([sign * (matrix @ sign) for sign in signs], axis=0)
    else:
        squares = np.diag(matrix.todense())
    good = np.isfinite(squares) & (squares > 1e-12)
    return np.sqrt(np.where(good, squares, 1.0))


def t_log_density(points: np.ndarray, centre: np.ndarray, factor: np.ndarray) -> np.ndarray:
    """Return the log density of a Student-t with 5 degrees of freedom.

    Parameters
    ----------
    points
        Shape (points, dimension).
    factor
        Cholesky factor of its scale matrix, shape (dimension, dimension).
    """
    from scipy.linalg import solve_triangular

    dimension = len(centre)
    z = solve_triangular(factor, (points - centre).T, lower=True)
    squares = np.sum(z * z, axis=0)
    constant = (
        math.lgamma((DF + dimension) / 2)
        - math.lgamma(DF / 2)
        - 0.5 * dimension * np.log(DF * np.pi)
        - np.log(np.abs(np.diag(factor))).sum()
    )
    return np.asarray(constant - 0.5 * (DF + dimension) * np.log1p(squares / DF))
