"""A continuous distribution cut to [low, high], with the right normalising constant."""

from __future__ import annotations

from typing import Any

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.family import Family, Parameters, Support, larger_bound
from millwright.distributions.far_tails import tail_quantile
from millwright.distributions.location_scale import standard
from millwright.distributions.mathematics import Array, Mathematics, log_diff_exp
from millwright.distributions.means import (
    closed_mean,
    has_closed_mean,
    log_mass,
    mean_by_quantiles,
)
from millwright.distributions.modified import Modified

__all__ = ["Truncated", "mean_between", "split_bounds"]

_FAR_OUT = 10.0
_SMALLEST = 1e-290
"""Probabilities below have lost digits, or are zero."""
_ROUNDING = 24 * 2.2e-16
_BOUNDS = ("low", "high")


def split_bounds(p: Parameters) -> tuple[dict[str, Array], Array | None, Array | None]:
    """Split the parameters into those of the family and the two bounds."""
    inner = {name: value for name, value in p.items() if name not in _BOUNDS}
    return inner, p.get("low"), p.get("high")


def _agree(m: Mathematics, larger: Array, smaller: Array) -> Array:
    """Whether the logs of two tails differ so little that between them all is as dense.

    Their difference is wrong by the rounding of both over itself; taking the density between for
    constant, by the square of the difference.
    """
    return larger - smaller < (_ROUNDING * (1 + m.abs(larger))) ** (1 / 3)


class Truncated(Family):
    """`family` restricted to [low, high]; either bound may be absent.

    The mass inside is a difference of distribution functions, taken on whichever side of the
    median keeps both terms small, so that far tails keep their digits.
    """

    def __init__(self, family: Family) -> None:
        self.family = family
        self.families = {"of": family}
        self.name = family.name  # type: ignore[misc]
        self.summary = family.summary  # type: ignore[misc]
        self.parameters = family.parameters  # type: ignore[misc]

    def support(self, p: Parameters) -> Support:
        inner, low, high = split_bounds(p)
        base = self.family.support(inner)
        lower = low if base.lower is None else base.lower
        upper = high if base.upper is None else base.upper
        if low is not None and base.lower is not None:
            lower = larger_bound(low, base.lower)
        if high is not None and base.upper is not None:
            upper = -larger_bound(-high, -base.upper)
        return Support(lower, upper)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        inner, low, high = split_bounds(p)
        plain = self.family.log_density(m, x, inner) - self._log_mass(m, p)
        beyond = getattr(self.family, "log_density_beyond", None)
        if beyond is None:
            return plain
        sign, bound, end = (1.0, low, high) if high is None else (-1.0, high, low)
        if low is not None and high is not None:
            above = standard(low, inner) > _FAR_OUT
            sign = m.where(above, 1.0, -1.0)
            bound, end = m.where(above, low, high), m.where(above, high, low)
        far = sign * standard(bound, inner) > _FAR_OUT
        return m.replaced(plain, far, lambda: beyond(m, x, bound, inner, sign, end))

    def _log_mass(self, m: Mathematics, p: Parameters) -> Array:
        """Log of the probability that the uncut distribution gives to [low, high]."""
        inner, low, high = split_bounds(p)
        if low is None:
            return self.family.log_cdf(m, high, inner)
        low, cut = self._inside(m, low, inner)
        if high is None:
            return m.where(cut, self.family.log_survival(m, low, inner), 0.0)
        # Both bounds at once: what is written twice is compiled twice, and these are long.
        low, high, *_ = m.broadcast_arrays(low, high, *inner.values())
        bounds = m.stack([low, high])
        upto, beyond = self.family.log_tails(m, bounds, inner)
        below, above = m.where(cut, upto[0], -m.inf), m.where(cut, beyond[0], 0.0)
        upper_side = below > above
        larger = m.where(upper_side, above, upto[1])
        smaller = m.where(upper_side, beyond[1], below)
        finite = smaller > -m.inf
        difference = log_diff_exp(m, larger, m.where(finite, smaller, larger - 1.0))
        base = self.family.support(inner)
        if base.lower is None and base.upper is None:
            agree = _agree(m, larger, smaller)
            narrow = self._log_mass_between(m, low, high, agree & (high > low), inner)
            difference = m.where(agree, narrow, difference)
        return m.where(finite, difference, larger)

    def _log_mass_between(
        self, m: Mathematics, low: Array, high: Array, where: Array, p: Parameters
    ) -> Array:
        """Return the log mass between two ends that are close together, by the density there."""
        middle = m.where(where, 0.5 * (low + high), p["location"])
        found = self.family.log_density(m, middle, p) + m.log(m.where(where, high - low, 1.0))
        return m.where(where, found, -m.inf)

    def _inside(self, m: Mathematics, low: Array, inner: Parameters) -> tuple[Array, Array]:
        """Return `low`, moved inside the support where it cuts nothing, and where it cuts."""
        floor = self.family.support(inner).lower
        if floor is None:
            return low, m.asarray(low) > -m.inf
        cut = m.asarray(low) > floor
        return m.where(cut, low, floor + 1.0), cut

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self._log_mass(m, {**p, "high": self._within(m, x, p)}) - self._log_mass(m, p)

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self._log_mass(m, {**p, "low": self._within(m, x, p)}) - self._log_mass(m, p)

    def _within(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        """Move points outside the bounds onto them."""
        x = m.maximum(x, p["low"]) if "low" in p else x
        return m.minimum(x, p["high"]) if "high" in p else x

    def quantile(self, q: Array, p: Parameters) -> Array:
        inner, low, high = split_bounds(p)
        q = np.asarray(q, dtype=float)
        at_low, at_high = (self._shares(b, inner, d) for b, d in ((low, (0, 1)), (high, (1, 0))))
        lower = at_low[0] + q * (at_high[0] - at_low[0])
        upper = at_high[1] + (1 - q) * (at_low[1] - at_high[1])
        with np.errstate(divide="ignore", over="ignore"):
            from_below = self.family.quantile(lower, inner)
            from_above = self.family.survival_quantile(upper, inner)
        x = np.asarray(np.where(at_low[0] > 0.5, from_above, from_below))
        for sign, bound, share in ((1, low, at_low[1]), (-1, high, at_high[0])):
            # The far end itself is where it is.
            inward = q < 1 if sign == 1 else q > 0
            far = np.broadcast_to((np.asarray(share) < _SMALLEST) & inward, x.shape)
            if bound is not None and far.any():
                x[far] = self._far_quantile(sign, *_picked(far, q, p))
        return self._clip(x, low, high)

    def _far_quantile(self, sign: int, q: np.ndarray, p: dict[str, np.ndarray]) -> np.ndarray:
        """Return quantiles where all beyond the nearer bound is too little for a number.

        `sign` is 1 for what lies above the lower bound, -1 for what lies below the upper one.
        """
        inner, low, high = split_bounds(p)
        near, other = (low, high) if sign == 1 else (high, low)
        tail = self.family.log_survival if sign == 1 else self.family.log_cdf

        def log_tail(x: np.ndarray) -> Array:
            return tail(on_numpy, x, inner)

        # Of what lies beyond the nearer bound the share `beyond` is further out than x.
        beyond = 1 - q if sign == 1 else q
        whole = log_tail(np.asarray(near))
        cut = np.full(whole.shape, -np.inf) if other is None else log_tail(other)
        with np.errstate(divide="ignore"):
            target = whole + np.log(beyond + (1 - beyond) * np.exp(cut - whole))
        density = self.family.log_density
        x = tail_quantile(log_tail, lambda x: density(on_numpy, x, inner), near, target, sign)
        if low is None or high is None:
            return x
        return np.where(_agree(on_numpy, whole, cut), low + q * (high - low), x)

    def _shares(
        self, bound: Array | None, inner: Parameters, default: tuple[float, float]
    ) -> tuple[Array, Array]:
        """Probability below and above `bound`."""
        if bound is None:
            return default
        x = np.asarray(bound, dtype=float)
        family = self.family
        return family.cdf(x, inner), np.exp(family.log_survival(on_numpy, x, inner))

    def _clip(self, x: Array, low: Array | None, high: Array | None) -> Array:
        x = x if low is None else np.maximum(x, low)
        return x if high is None else np.minimum(x, high)

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return self.quantile(generator.random(size), p)

    def mean(self, p: Parameters) -> Array:
        inner, low, high = split_bounds(p)
        return mean_between(self.family, low, high, inner)

    @property
    def mean_takes_long(self) -> bool:
        return not has_closed_mean(self.family)

    def mean_within(self, low: Array | None, high: Array | None, p: Parameters) -> Array | None:
        """Return the mean of what lies between two more bounds."""
        inner, at_least, at_most = split_bounds(p)
        if low is not None:
            at_least = low if at_least is None else np.maximum(low, at_least)
        if high is not None:
            at_most = high if at_most is None else np.minimum(high, at_most)
        return mean_between(self.family, at_least, at_most, inner)


def mean_between(family: Family, low: Array | None, high: Array | None, p: Parameters) -> Any:
    """Return the mean of what lies between two bounds, None being no bound.

    Returns
    -------
    NaN where there is nothing or no mean; None for values that are recorded, which have mass at
    single points.
    """
    own = getattr(family, "mean_within", None)
    if own is not None:
        return own(low, high, p)
    if isinstance(family, Modified):
        return None
    found = closed_mean(family, low, high, p)
    no_end = high is None or (low is None and family.support(p).lower is None)
    with np.errstate(all="ignore"):
        # On an open side a heavy tail may be left.
        none = ~np.isfinite(family.mean(p)) if no_end else np.asarray(False)
        missing = np.isnan(found) & ~none & (log_mass(family, low, high, p) > -np.inf)
        if missing.any():
            found = _filled(found, missing, family, {**p, "low": low, "high": high})
    return np.where(none, np.nan, found)


def _filled(
    found: np.ndarray, missing: np.ndarray, family: Family, p: dict[str, Array | None]
) -> np.ndarray:
    """Put means by quantiles where they are missing."""
    given = {name: np.asarray(value, float) for name, value in p.items() if value is not None}
    shape = np.broadcast_shapes(missing.shape, *(value.shape for value in given.values()))
    where = np.broadcast_to(missing, shape)
    result = np.broadcast_to(found, shape).copy()
    result[where] = mean_by_quantiles(Truncated(family), _picked(where, result, given)[1])
    return result


def _picked(
    where: np.ndarray, values: np.ndarray, p: Parameters
) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    """Return values and parameters at these places, each flat."""
    every = {name: np.broadcast_to(np.asarray(v, float), where.shape) for name, v in p.items()}
    return np.broadcast_to(values, where.shape)[where], {n: v[where] for n, v in every.items()}
