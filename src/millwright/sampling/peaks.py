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
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from itertools import islice
from typing import Any

import numpy as np

from millwright.sampling.climbing_on import still_apart
from millwright.sampling.climbs import Climbs, Top
from millwright.sampling.mode import Slopes
from millwright.sampling.peak_ends import End, end_of, rough_factor
from millwright.sampling.start_points import pulled_in
from millwright.sampling.streams import Stream, generator_of
from millwright.sampling.target import TargetDensity
from millwright.sampling.warmup import scale_at

__all__ = ["DF", "LEAST_FOR_A_CHAIN", "PeakSearch", "Peaks", "t_log_density"]

CLIMBS = 128
DF = 5.0
LEAST_FOR_A_CHAIN = 0.01
DIP = 2.0
"""How many units of log density the line between two separate peaks dips below the lower one."""

_NARROW = 0.01
_BEFORE_SCALES = 8
_LARGEST_WITH_CURVATURE = 200
_LARGEST_COMPARED = 1000
"""In up to so many dimensions curvatures are taken once, to tell whether one peak holds all."""
_POINTS, _FEWEST_POINTS, _MORE_POINTS = 1000, 50, 8000
_NOTHING = 1e-3
"""A peak that seems to hold less is not looked at more closely."""
_MOST_PEAKS = 24
_LEAST_ESS = 50.0
_SURELY = 20.0
"""A peak holds nothing for sure if it is so many units of log density lower, and smaller, than
another: no estimate of a mass is wrong by that much."""
_GRADIENTS_OF_A_CLIMB = 45
_HALF_A_CLIMB = 8
"""Gradients that each climb took in vain which is under way where the search is cut."""
_TOGETHER = (16, 64)
# Of eight climbs four start from the prior, three around the first peak, one along a coordinate.
_KINDS = ("prior", "around", "prior", "around", "prior", "around", "prior", "along")


@dataclass(frozen=True, kw_only=True)
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
    scale
        Of a single peak, or one beside which all others surely hold nothing: the metric with
        which a sampler can begin. Standard deviations, shape (dimension,), or where unknowns are
        strongly correlated there the Cholesky factor of the inverse curvature; None where several
        may hold something and where the curvature is not known.
    """

    positions: np.ndarray
    log_densities: np.ndarray
    factors: np.ndarray
    masses: np.ndarray
    errors: np.ndarray
    climbs: int
    evaluations: int
    cut: bool
    scale: np.ndarray | None = None

    @property
    def several(self) -> bool:
        """Whether there is more than one."""
        return len(self.positions) > 1

    @property
    def to_begin_at(self) -> np.ndarray | None:
        """Where a chain each should begin: the peaks that hold 1 % or more; None for one."""
        worth = np.isnan(self.masses) | (self.masses >= LEAST_FOR_A_CHAIN)
        return self.positions[worth] if self.several and worth.sum() > 1 else None

    @property
    def record(self) -> dict[str, Any]:
        """All of it as plain values; of several peaks what tells them apart, at one the metric."""
        found: dict[str, Any] = {
            "climbs": self.climbs,
            "evaluations": self.evaluations,
            "cut": self.cut,
            "peaks": len(self.positions),
            "log_densities": self.log_densities.tolist(),
        }
        if self.scale is not None:
            found |= {"scale": self.scale.tolist(), "positions": self.positions.tolist()}
        if self.several:
            # JSON has no NaN: an unknown mass is none.
            found |= {
                "positions": self.positions.tolist(),
                "factors": self.factors.tolist(),
                "masses": [None if np.isnan(m) else float(m) for m in self.masses],
                "errors": [None if np.isnan(e) else float(e) for e in self.errors],
            }
        return found

    @classmethod
    def from_record(cls, record: Mapping[str, Any]) -> Peaks:
        """Return what `record` was made from."""

        def numbers(name: str) -> np.ndarray:
            return np.array(
                [np.nan if v is None else v for v in record.get(name, ())], dtype=float
            )

        return cls(
            positions=np.array(record.get("positions", np.zeros((0, 0))), dtype=float),
            log_densities=numbers("log_densities"),
            factors=np.array(record.get("factors", np.zeros((0, 0, 0))), dtype=float),
            masses=numbers("masses"),
            errors=numbers("errors"),
            climbs=int(record["climbs"]),
            evaluations=int(record["evaluations"]),
            cut=bool(record["cut"]),
            scale=np.array(record["scale"], dtype=float) if "scale" in record else None,
        )


class PeakSearch:
    """A search for separate peaks; compiles the gradient when it is made."""

    def __init__(self, target: TargetDensity, seed: int, most: int) -> None:
        self.target = target
        together = int(np.clip(most // _GRADIENTS_OF_A_CLIMB, *_TOGETHER))
        self.climbs = Climbs(Slopes(target), most + _HALF_A_CLIMB * together, together)
        self.generator = generator_of(seed, Stream.PEAKS)
        self.begun = 0
        self.ends: list[End] = []
        self.apart: list[End] = []

    def peaks(self) -> Peaks:
        """Search, and return what was found."""
        with np.errstate(all="ignore"):
            self._search()
            return self._result()

    def _search(self) -> None:
        starts = self.target.starts(self.generator, CLIMBS)
        middle = np.nanmedian(starts, axis=0)
        drawn = iter(self._stretched(starts, middle))
        spread = np.nanstd(starts, axis=0)
        spread = np.where(np.isfinite(spread) & (spread > 0), spread, 1.0)
        self.rough = spread
        first = islice(drawn, _BEFORE_SCALES)
        self._climb(self._counted(first), middle, spread)
        if not self.apart:
            self._climb(self._counted(drawn), middle, spread)
            # Nearly nowhere was anything finite to climb from: what is, is narrow.
            if not self.apart and not self.climbs.cut and self.climbs.evaluations < 4 * CLIMBS:
                self.begun = 0
                self._climb(self._counted(iter(pulled_in(starts))), middle, _NARROW * spread)
        else:
            # From here on in the widths of the first peak, where climbs are short.
            peak = self.apart[0]
            factor = self.rough if peak.factor is None else peak.factor
            self._climb(self._counted(self._starts(drawn, middle)), peak.position, factor)

    def _counted(self, starts: Iterator[np.ndarray]) -> Iterator[np.ndarray]:
        """Hand out starts as long as there is something left to spend."""
        for start in starts:
            if self.climbs.cut or len(self.apart) >= _MOST_PEAKS:
                return
            if self.begun == CLIMBS:
                return
            if np.isfinite(start).all():
                self.begun += 1
                yield start

    def _starts(self, drawn: Iterator[np.ndarray], middle: np.ndarray) -> Iterator[np.ndarray]:
        mirrored = number = 0
        while True:
            if mirrored < len(self.apart):
                # Modes come in pairs, as with signs that can be turned round.
                yield 2.0 * middle - self.apart[mirrored].position
                mirrored += 1
            kind = _KINDS[number % len(_KINDS)]
            number += 1
            start = next(drawn, None) if kind == "prior" else None
            yield self._moved(kind) if start is None else start

    def _stretched(self, starts: np.ndarray, middle: np.ndarray) -> np.ndarray:
        """Move every second start out: a wide mode draws in all that is near the middle."""
        stretch = np.where(
            np.arange(len(starts)) % 2, self.generator.uniform(1, 5, len(starts)), 1.0
        )
        return np.asarray(middle + stretch[:, None] * (starts - middle))

    def _moved(self, kind: str) -> np.ndarray:
        """Return a place at a random distance from the first peak."""
        peak = self.apart[0]
        reach = 10.0 ** self.generator.uniform(0.5, 3.5)
        step = self.generator.standard_normal(len(peak.position))
        if kind == "along":
            only = int(self.generator.integers(len(step)))
            step = np.where(np.arange(len(step)) == only, np.sign(step), 0.0)
        return peak.position + self._widths(peak) * reach * step

    def _widths(self, end: End) -> np.ndarray:
        if end.factor is None:
            return self.rough
        return np.sqrt(np.sum(end.factor**2, axis=1))

    def _climb(self, starts: Iterator[np.ndarray], centre: np.ndarray, factor: np.ndarray) -> None:
        for top in self.climbs.tops(starts, centre, factor, self._known):
            self._settle(top)

    def _known(self, positions: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Say which positions lie beside a known end, on its own quadratic."""
        found = np.zeros(len(positions), dtype=bool)
        for end in self.ends:
            apart = positions - end.position
            if end.curvature is None:
                near = np.all(np.abs(apart) < 0.1 * self.rough, axis=1)
                found |= near & (np.abs(values - end.value) < 0.5)
                continue
            rise = 0.5 * np.einsum("ni,ij,nj->n", apart, end.curvature, apart)
            found |= (rise < 0.5) & (np.abs(values - end.value - rise) < 0.25)
        return found

    def _is_known(self, position: np.ndarray, value: float) -> bool:
        return bool(self._known(position[None], np.array([value]))[0])

    def _settle(self, top: Top) -> None:
        """Take the end of a climb for a peak if it is one, apart from those known."""
        if self._is_known(top.position, top.value):
            return
        end = self._polished(top)
        if end is None or self._is_known(end.position, end.value):
            return
        self.ends.append(end)
        # An end without a dip is on the flank of a known peak: later climbs may end there too.
        if all(self._dips(end, peak) for peak in self.apart):
            self.apart.append(end)

    def _polished(self, top: Top) -> End | None:
        """Return the peak at the end of a climb; None if there is none."""
        if len(top.position) > _LARGEST_WITH_CURVATURE:
            self.rough = top.widths
            return End(position=top.position, value=top.value, settled=top.settled)
        return end_of(self.climbs, top)

    def _dips(self, one: End, other: End) -> bool:
        """Whether the straight line between two peaks goes down well below the lower of them."""
        lower = max(one.value, other.value)
        shares = np.linspace(0, 1, 34)[1:-1, None]
        values, _ = self.climbs.heights(one.position + shares * (other.position - one.position))
        return bool((values > lower + DIP).any())

    def _result(self) -> Peaks:
        cut = self.climbs.cut
        ended = self.begun - self.climbs.lost
        dimension = self.target.dimension
        if not self.apart:
            empty = np.zeros(0)
            return Peaks(
                positions=np.zeros((0, dimension)),
                log_densities=empty,
                factors=np.zeros((0, 0, 0)),
                masses=empty,
                errors=empty,
                climbs=ended,
                evaluations=self.climbs.evaluations,
                cut=cut,
            )
        if len(self.apart) > 1 and not all(end.settled for end in self.apart):
            self.apart = still_apart(self.climbs, self.apart, self.rough, self._dips)
        if len(self.apart) > 1 and _LARGEST_WITH_CURVATURE < dimension <= _LARGEST_COMPARED:
            self.apart = self._worth_telling()
        positions = np.stack([peak.position for peak in self.apart])
        values = -np.array([peak.value for peak in self.apart])
        found = [peak.factor for peak in self.apart if peak.factor is not None]
        known = len(found) == len(positions)
        factors = np.stack(found) if known else np.zeros((0, 0, 0))
        masses = errors = np.full(len(positions), np.nan)
        if len(positions) == 1:
            masses, errors = np.ones(1), np.zeros(1)
        elif known:
            masses, errors = self._masses(positions, values, factors)
        order = np.argsort(-np.where(np.isnan(masses), values, masses), kind="stable")
        sure = known and bool(np.isfinite(masses).all())
        alone = sure and _dominates(values[order], factors[order])
        return Peaks(
            positions=positions[order],
            log_densities=values[order],
            factors=factors[order] if known else factors,
            masses=masses[order],
            errors=errors[order],
            climbs=ended,
            evaluations=self.climbs.evaluations,
            cut=cut,
            scale=scale_at(factors[order[0]]) if alone else None,
        )

    def _worth_telling(self) -> list[End]:
        """In very many dimensions, leave out all but one peak if that surely holds everything."""
        ends = sorted(self.apart, key=lambda end: end.value)
        factors = [rough_factor(self.climbs, end, self.rough) for end in ends]
        known = [factor for factor in factors if factor is not None]
        if len(known) < len(ends):
            return ends
        values = -np.array([end.value for end in ends])
        return ends[:1] if _dominates(values, np.stack(known)) else ends

    def _masses(
        self, positions: np.ndarray, values: np.ndarray, factors: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray]:
        """Estimate the share of each peak by importance sampling; NaN where that fails.

        Where it does, once more with many points at the peaks that hold something.
        """
        count = len(positions)
        each = np.full(count, max(_FEWEST_POINTS, _POINTS // count))
        masses, errors, sure = self._weighed(positions, values, factors, each)
        if not sure and np.isfinite(masses).all():
            some = masses > _NOTHING
            each = np.where(some, _MORE_POINTS // some.sum(), _FEWEST_POINTS)
            masses, errors, sure = self._weighed(positions, values, factors, each)
        nothing = np.full(count, np.nan)
        return (masses, errors) if sure else (nothing, nothing)

    def _weighed(
        self, positions: np.ndarray, values: np.ndarray, factors: np.ndarray, each: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray, bool]:
        """Return masses, errors and whether they can be relied on, from `each` points a peak."""
        dimension, number = positions.shape[1], int(each.sum())
        normal = self.generator.standard_normal((number, dimension))
        shrink = np.sqrt(self.generator.chisquare(DF, (number, 1)) / DF)
        # Peak by peak: a matrix for each point would take gigabytes in many dimensions.
        some = np.split(normal / shrink, np.cumsum(each)[:-1])
        points = np.concatenate(
            [p + own @ f.T for p, f, own in zip(positions, factors, some, strict=True)]
        )
        heights = -self.climbs.heights(points)[0]
        apart = np.stack(
            [t_log_density(points, p, f) for p, f in zip(positions, factors, strict=True)], axis=1
        )
        # What a peak's own quadratic would hold decides whose a point between two is.
        sizes = _sizes(values, factors)
        whose = apart + sizes
        whose = np.exp(whose - np.logaddexp.reduce(whose, axis=1, keepdims=True))
        logs = heights - np.logaddexp.reduce(apart + np.log(each), axis=1)
        weights = np.exp(logs - logs.max())[:, None] * whose
        totals = weights.sum(axis=0)
        with np.errstate(all="ignore"):
            enough = totals**2 / (weights**2).sum(axis=0)
        masses = totals / totals.sum()
        # Ratio estimate: variance of the mean of w (whose - mass) over the points.
        left = weights - masses * weights.sum(axis=1, keepdims=True)
        errors = np.sqrt((left**2).sum(axis=0)) / totals.sum()
        big = masses > 0.01
        sure = bool(np.isfinite(masses).all() and (enough[big] >= _LEAST_ESS).all())
        return masses, errors, sure


def _sizes(values: np.ndarray, factors: np.ndarray) -> np.ndarray:
    """Return what each peak holds by its height and curvature, a logarithm up to a constant."""
    widths = np.log(np.abs(np.diagonal(factors, axis1=1, axis2=2))).sum(axis=1)
    return np.asarray(values + widths)


def _dominates(values: np.ndarray, factors: np.ndarray) -> bool:
    """Whether all peaks but the first surely hold nothing."""
    sizes = _sizes(values, factors)
    lower = (values[1:] < values[0] - _SURELY) & (sizes[1:] < sizes[0] - _SURELY)
    return bool(lower.all())


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
