"""Bounded least squares from several starts: the point fit that stands before any sampling."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pandas as pd
from scipy import optimize, stats

from millwright.display import Shown, text_table
from millwright.draws.numbers import decimals_of, fixed, share_text

__all__ = ["PointFit", "Space", "point_fit"]

_FAR = 1e6
"""Stands for a residual that is not finite, in sds: climbs leave such places."""
_AGREE = 25.0
"""Ends whose chi-square lies within this of the best may hold mass beside it."""
_APART = 5.0
"""Standard errors between two ends from which they count as different places."""
_NEAR_END = 1e-3
_SECONDS = 3.0
_MOST_TRIED, _MOST_STARTS = 200, 16
_WEAK = 0.5


@dataclass(frozen=True, kw_only=True)
class Space:
    """The single numbers that a curve has to find.

    Attributes
    ----------
    names
        Of each number, labels included.
    low, high
        Ends of its range, infinite where there is none.
    scale
        How far its prior reaches: half of the central 68 %.
    draws
        Of the priors, shape (draws, numbers).
    """

    names: tuple[str, ...]
    low: np.ndarray = field(repr=False)
    high: np.ndarray = field(repr=False)
    scale: np.ndarray = field(repr=False)
    draws: np.ndarray = field(repr=False)


@dataclass(frozen=True, kw_only=True)
class PointFit(Shown):
    """A least-squares fit.

    Attributes
    ----------
    names
        Of the numbers that were fitted.
    estimates, errors
        Values, and standard errors from the curvature at the smallest sum of squares; infinite
        where the data do not move a number.
    correlations
        Of the estimates, shape (numbers, numbers).
    chi_square
        Sum of squared residuals in units of their errors; where errors are not given, of the plain
        residuals.
    freedom
        Rows minus numbers.
    given_errors
        Whether the errors of the rows were given.
    flat
        Numbers that the data move hardly or not at all.
    pressed
        Numbers at an end of their range, with that end.
    places
        Other ends of the search that fit about as well: chi-square and values.
    starts
        How many starts were tried.
    not_finite
        Share of draws of the priors at which the curve is not finite at some row.
    """

    names: tuple[str, ...]
    estimates: tuple[float, ...]
    errors: tuple[float, ...]
    correlations: tuple[tuple[float, ...], ...] = field(repr=False)
    chi_square: float
    freedom: int
    given_errors: bool
    flat: tuple[str, ...] = ()
    pressed: tuple[tuple[str, float], ...] = ()
    places: tuple[tuple[float, tuple[float, ...]], ...] = ()
    starts: int = 1
    not_finite: float = 0.0

    @property
    def reduced(self) -> float:
        """Chi-square over its degrees of freedom; the noise variance where errors are unknown."""
        return self.chi_square / self.freedom if self.freedom > 0 else np.nan

    @property
    def chance(self) -> float:
        """Probability of a larger chi-square by chance, for errors that are given."""
        return float(stats.chi2.sf(self.chi_square, self.freedom)) if self.freedom > 0 else np.nan

    def to_dataframe(self) -> pd.DataFrame:
        """Return one row a number: estimate, standard error, and its correlations."""
        frame = pd.DataFrame(
            {"estimate": self.estimates, "standard error": self.errors},
            index=pd.Index(self.names, name="unknown"),
        )
        for name, column in zip(self.names, np.array(self.correlations).T, strict=True):
            frame[f"correlation with {name}"] = column
        return frame

    @property
    def fit_words(self) -> str:
        """How well the curve fits, in words."""
        if not self.given_errors:
            if self.freedom <= 0:
                return "There are no more rows than unknowns: the noise cannot be told."
            sd = float(np.sqrt(self.reduced))
            return (
                f"Noise around the curve: sd {sd:.3g} ({self.freedom} degrees of freedom); errors "
                "of the rows are not given, so chi-square says nothing of the fit."
            )
        told = f"Chi-square {self.chi_square:.4g} for {self.freedom} degrees of freedom"
        if self.freedom <= 0:
            return f"{told}: there are no more rows than unknowns, so it says nothing of the fit."
        told = (
            f"{told} (reduced {self.reduced:.3g}; one as large or larger has probability "
            f"{share_text(self.chance)})"
        )
        if self.chance < 0.001:
            return (
                f"{told}: the curve does not describe the data within these errors, or the errors "
                "are larger than stated."
            )
        if self.chance < 0.05:
            return f"{told}: larger than the errors let expect; look at the residuals."
        if self.chance > 0.999:
            return f"{told}: the residuals are smaller than such errors allow."
        return f"{told}: the curve fits within the errors."

    @property
    def cautions(self) -> tuple[str, ...]:
        """What is to be known before anything is sampled."""
        at = dict(zip(self.names, self.estimates, strict=True))
        lines = [
            f"`{name}` is pressed against {end:g}, an end of its range: widen the range, or "
            "accept that the data do not limit it there."
            for name, end in self.pressed
        ]
        lines += [
            f"The data hardly move `{name}` (at {at[name]:.3g}): what is said of it will be its "
            "prior."
            for name in self.flat
            if name not in dict(self.pressed)
        ]
        if self.not_finite > 0:
            lines.append(
                f"At {100 * self.not_finite:.2g} % of draws of the priors the curve is not a "
                "finite number at some row: such places are ruled out. Narrow the ranges if they "
                "should not be."
            )
        if self.places:
            told = "; ".join(
                ", ".join(f"{n} = {v:.4g}" for n, v in zip(self.names, place, strict=True))
                + f" (chi-square larger by {self._worse(chi):.3g})"
                for chi, place in self.places[:3]
            )
            lines.append(
                "Starts ended in different places that fit about as well, so there may be several "
                f"solutions: {told}."
            )
        return tuple(lines)

    def _worse(self, chi_square: float) -> float:
        scale = 1.0 if self.given_errors else max(self.reduced, 1e-300)
        return (chi_square - self.chi_square) / scale

    def __str__(self) -> str:
        columns: dict[str, list[str]] = {"estimate": [], "standard error": []}
        for value, error in zip(self.estimates, self.errors, strict=True):
            decimals = decimals_of(error) if np.isfinite(error) else 3
            columns["estimate"].append(fixed(value, decimals))
            told = fixed(error, decimals) if np.isfinite(error) else "not limited"
            columns["standard error"].append(told)
        head = f"Least squares within the ranges, without priors (best of {self.starts} starts)"
        table = text_table(self.names, columns)
        strong = [
            f"{self.names[i]} and {self.names[j]} {self.correlations[i][j]:.2f}"
            for i in range(len(self.names))
            for j in range(i)
            if abs(self.correlations[i][j]) > 0.9
        ]
        lines = [head, table, self.fit_words, *self.cautions]
        if strong:
            lines.append(f"Strong correlations: {'; '.join(strong)}.")
        return "\n".join(lines)

    @property
    def plain(self) -> dict[str, Any]:
        """All of it as plain values."""
        return {name: getattr(self, name) for name in self.__dataclass_fields__}

    @classmethod
    def known_as(cls, record: Mapping[str, Any]) -> PointFit:
        """Return the fit of a record."""
        found = {name: _frozen(value) for name, value in record.items()}
        return cls(**found)


def _frozen(value: Any) -> Any:
    return tuple(map(_frozen, value)) if isinstance(value, list | tuple) else value


def point_fit(
    residuals: Callable[[np.ndarray], np.ndarray], space: Space, given_errors: bool
) -> PointFit:
    """Fit by bounded least squares from several starts.

    Parameters
    ----------
    residuals
        Of one position (numbers,): shape (rows,), in units of the errors where they are given.
    space
        The numbers.
    given_errors
        Whether they are.

    Returns
    -------
    The best end. References: Branch, Coleman and Li (1999), the trust-region method; Seber and
    Wild (2003), section 2.1.2, the standard errors.
    """

    def finite(position: np.ndarray) -> np.ndarray:
        found = residuals(position)
        return np.where(np.isfinite(found), found, _FAR)

    starts, bad = _starts(residuals, space)
    low, high = np.nextafter(space.low, np.inf), np.nextafter(space.high, -np.inf)
    ends = [
        optimize.least_squares(
            finite,
            np.clip(start, low, high),
            bounds=(space.low, space.high),
            jac="3-point",
            x_scale=space.scale,
            xtol=1e-12,
            ftol=1e-12,
            gtol=1e-12,
            max_nfev=200,
        )
        for start in starts
    ]
    best = min(ends, key=lambda end: float(end.cost))
    return replace(_told(best, ends, space, given_errors), not_finite=bad)


def _starts(
    residuals: Callable[[np.ndarray], np.ndarray], space: Space
) -> tuple[list[np.ndarray], float]:
    """Return where to begin: the best of many draws of the priors, and others as they come.

    Also the share of draws that are not finite.
    """
    begun = time.perf_counter()
    costs: list[float] = []
    for draw in space.draws[:_MOST_TRIED]:
        costs.append(float(np.sum(residuals(draw) ** 2)))
        if len(costs) >= 2 and time.perf_counter() - begun > _SECONDS:
            break
    slow = (time.perf_counter() - begun) / len(costs)
    each = slow * 30 * (2 * len(space.names) + 1)
    count = int(np.clip(4 * _SECONDS / max(each, 1e-9), 2, _MOST_STARTS))
    bad = ~np.isfinite(costs)
    order = np.argsort(np.where(bad, np.inf, costs), kind="stable")
    best = list(order[: (count + 1) // 2])
    others = [at for at in range(len(costs)) if at not in best][: count - len(best)]
    return [space.draws[at] for at in (*best, *others)], float(bad.mean())


def _told(best: Any, ends: list[Any], space: Space, given_errors: bool) -> PointFit:
    rows, count = best.jac.shape
    freedom = rows - count
    chi_square = 2 * float(best.cost)
    variance = 1.0 if given_errors else (chi_square / freedom if freedom > 0 else np.nan)
    errors, correlations = _errors(best.jac, space, variance)
    pressed = tuple(
        (name, float(end))
        for name, value, scale, pair in zip(
            space.names,
            best.x,
            space.scale,
            zip(space.low, space.high, strict=True),
            strict=True,
        )
        for end in pair
        if np.isfinite(end) and abs(value - end) < _NEAR_END * scale
    )
    weak = ~(errors < _WEAK * 2 * space.scale)
    unit = variance if variance > 0 else 1.0
    places: list[tuple[float, tuple[float, ...]]] = []
    known = [best.x]
    reach = np.where(np.isfinite(errors), np.maximum(errors, 1e-4 * space.scale), np.inf)
    for end in sorted(ends, key=lambda one: float(one.cost)):
        far = all(np.max(np.abs(end.x - one) / reach) > _APART for one in known)
        if far and (2 * float(end.cost) - chi_square) / unit < _AGREE:
            places.append((2 * float(end.cost), tuple(map(float, end.x))))
            known.append(end.x)
    return PointFit(
        names=space.names,
        estimates=tuple(map(float, best.x)),
        errors=tuple(map(float, errors)),
        correlations=tuple(tuple(map(float, row)) for row in correlations),
        chi_square=chi_square,
        freedom=freedom,
        given_errors=given_errors,
        flat=tuple(n for n, one in zip(space.names, weak, strict=True) if one),
        pressed=pressed,
        places=tuple(places),
        starts=len(ends),
    )


def _errors(slopes: np.ndarray, space: Space, variance: float) -> tuple[np.ndarray, np.ndarray]:
    """Return standard errors and correlations, infinite and 0 along what nothing moves."""
    scaled = slopes * space.scale
    _, sizes, ways = np.linalg.svd(scaled, full_matrices=False)
    count = len(space.names)
    moved = sizes > 1e-7 * max(float(sizes.max(initial=0.0)), 1e-300)
    inverse = (ways[moved].T / sizes[moved] ** 2) @ ways[moved] * variance
    still = np.ones(count, dtype=bool)
    if moved.sum() == count:
        still[:] = False
    else:
        still = 1 - np.sum(ways[moved] ** 2, axis=0) > 1e-6
    spread = np.sqrt(np.diag(inverse))
    with np.errstate(all="ignore"):
        correlations = inverse / np.outer(spread, spread)
    correlations[~np.isfinite(correlations)] = 0.0
    correlations[still], correlations[:, still] = 0.0, 0.0
    np.fill_diagonal(correlations, 1.0)
    return np.where(still, np.inf, spread * space.scale), correlations
