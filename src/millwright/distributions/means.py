"""Means of what two bounds leave of a distribution, in closed form or by its quantiles."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from scipy import special

from millwright.distributions import on_numpy
from millwright.distributions.bounded import Beta
from millwright.distributions.family import Family, Parameters
from millwright.distributions.location_scale import Normal, StudentT, standard, t_log_density
from millwright.distributions.mathematics import Array
from millwright.distributions.modified import log_interval
from millwright.distributions.positive import Gamma, InverseGamma, LogNormal
from millwright.distributions.skewed import Pareto

__all__ = [
    "MOST_TERMS",
    "closed_mean",
    "has_closed_mean",
    "log_mass",
    "mean_by_quantiles",
    "mean_by_slices",
]

_NODES = 14
_SLICES = 2000
_LOST, _ROOM = 1e-8, 1e6
"""Largest error of a closed form, relative to how far the mean is from the bounds."""

MOST_TERMS = 500
"""Of a sum over single values; with more, what the sum adds to an integral is negligible."""

Bound = Array | None


def log_mass(family: Family, low: Bound, high: Bound, p: Parameters) -> np.ndarray:
    """Return the log of the probability between two bounds; None is no bound."""
    support = family.support(p)
    low, high = (None if b is None else np.asarray(b, dtype=float) for b in (low, high))
    if low is not None and support.lower is not None:
        low = None if np.all(low <= support.lower) else np.maximum(low, support.lower)
    if high is not None and support.upper is not None:
        high = None if np.all(high >= support.upper) else np.minimum(high, support.upper)
    nothing = np.asarray(False)
    if low is not None and support.upper is not None:
        nothing = nothing | (low >= support.upper)
    if high is not None and support.lower is not None:
        nothing = nothing | (high <= support.lower)
    if nothing.all():
        # A logarithm of nothing is looked for term by term, for long.
        return np.where(nothing, -np.inf, 0.0)
    if low is None and high is None:
        return np.asarray(0.0)
    if low is None:
        return np.where(nothing, -np.inf, family.log_cdf(on_numpy, high, p))
    if high is None:
        return np.where(nothing, -np.inf, family.log_survival(on_numpy, low, p))
    low, high, *_ = np.broadcast_arrays(low, high)
    return np.where(nothing, -np.inf, log_interval(on_numpy, family, low, high, p))


def has_closed_mean(family: Family) -> bool:
    """Tell whether the mean between two bounds has a closed form."""
    if hasattr(family, "mean_within"):
        inside: dict[str, Family] = getattr(family, "families", {})
        return all(map(has_closed_mean, inside.values()))
    return family.name in {*_TAILS, *_HALVES, *_BIASED, "uniform"}


def closed_mean(family: Family, low: Bound, high: Bound, p: Parameters) -> np.ndarray:
    """Return the mean of what lies between two bounds, None being no bound.

    Returns
    -------
    NaN where there is no closed form, or it has lost its digits, or there is no mean.
    """
    with np.errstate(all="ignore"):
        if family.name in _TAILS:
            return _standard_mean(family, low, high, p)
        if family.name in _HALVES:
            whole = _HALVES[family.name]
            at_least = np.maximum(0.0 if low is None else low, 0.0)
            return _standard_mean(whole, at_least, high, {**p, "location": 0.0})
        if family.name == "uniform":
            ends = family.support(p)
            from_ = ends.lower if low is None else np.maximum(low, np.asarray(ends.lower))
            to = ends.upper if high is None else np.minimum(high, np.asarray(ends.upper))
            return (np.asarray(from_) + to) / 2
        if family.name in _BIASED:
            return _biased_mean(family, low, high, p)
    return np.asarray(np.nan)


def _standard_mean(family: Family, low: Bound, high: Bound, p: Parameters) -> np.ndarray:
    """Return the mean for a family with a location and a scale, from integrals of z f(z)."""
    a, b = (
        np.asarray(end if bound is None else standard(np.asarray(bound, dtype=float), p))
        for bound, end in ((low, -np.inf), (high, np.inf))
    )
    mass = np.exp(log_mass(family, low, high, p))
    tail = _TAILS[family.name]
    total = _skew_total(p) if family.name == "skew_normal" else 0.0
    ends = [
        np.where(np.isfinite(z), tail(np.where(np.isfinite(z), z, 0.0), p), (z < 0) * total)
        for z in (a, b)
    ]
    z = (ends[0] - ends[1]) / mass
    error = np.finfo(float).eps * (np.abs(ends[0]) + np.abs(ends[1])) / mass
    room = np.minimum(np.minimum(z - a, b - z), _ROOM)
    reliable = (z > a) & (z < b) & (error < _LOST * room)
    return np.asarray(np.where(reliable, p["location"] + p["scale"] * z, np.nan))


def _normal_tail(z: np.ndarray, p: Parameters) -> Array:
    return np.exp(-0.5 * z * z) / math.sqrt(2 * math.pi)


def _student_tail(z: np.ndarray, p: Parameters) -> Array:
    df = np.asarray(p["df"], dtype=float)
    density = np.exp(t_log_density(on_numpy, z, df))
    return np.where(df > 1, density * (df + z * z) / (df - 1), np.nan)


def _logistic_tail(z: np.ndarray, p: Parameters) -> Array:
    z = np.abs(z)
    return z * special.expit(-z) + np.log1p(np.exp(-z))


def _laplace_tail(z: np.ndarray, p: Parameters) -> Array:
    z = np.abs(z)
    return 0.5 * np.exp(-z) * (z + 1)


def _skew_total(p: Parameters) -> Array:
    shape = np.asarray(p["shape"], dtype=float)
    return math.sqrt(2 / math.pi) * shape / np.hypot(1.0, shape)


def _skew_tail(z: np.ndarray, p: Parameters) -> Array:
    # Integrated by parts: z times the normal density is minus its derivative.
    shape = np.asarray(p["shape"], dtype=float)
    beyond = special.ndtr(-z * np.hypot(1.0, shape))
    return 2 * _normal_tail(z, p) * special.ndtr(shape * z) + _skew_total(p) * beyond


_TAILS: dict[str, Callable[[np.ndarray, Parameters], Array]] = {
    "normal": _normal_tail,
    "student_t": _student_tail,
    "logistic": _logistic_tail,
    "laplace": _laplace_tail,
    "skew_normal": _skew_tail,
}
"""The integral of z f(z) from z to the end, for the density f in standard units around 0."""

_HALVES: dict[str, Family] = {"half_normal": Normal(), "half_student_t": StudentT()}


def _biased_mean(family: Family, low: Bound, high: Bound, p: Parameters) -> np.ndarray:
    """Return the mean for a family of positive numbers, by that with density x f(x) / mean."""
    exact = {name: np.asarray(value, dtype=float) for name, value in p.items()}
    biased, parameters = _BIASED[family.name](exact)
    bounds = (low, high)
    if family.name == "weibull":
        bounds = (_power(exact, low), _power(exact, high))
    share = log_mass(biased, *bounds, parameters) - log_mass(family, low, high, p)
    found = np.asarray(family.mean(p) * np.exp(share))
    inside = np.isfinite(found)
    if low is not None:
        inside = inside & (found >= low)
    if high is not None:
        inside = inside & (found <= high)
    return np.asarray(np.where(inside, found, np.nan))


def _power(p: Parameters, bound: Bound) -> Bound:
    """Return a bound of Weibull times on the scale where they are exponential."""
    if bound is None:
        return None
    ratio = np.maximum(np.asarray(bound, dtype=float), 0.0) / p["scale"]
    return np.asarray(ratio ** p["shape"])


def _other(family: Family, p: Parameters, **changed: Array) -> tuple[Family, dict[str, Array]]:
    """Return a family with some of its parameters changed."""
    return family, {**p, **{name: np.asarray(value) for name, value in changed.items()}}


_BIASED: dict[str, Callable[[Parameters], tuple[Family, dict[str, Array]]]] = {
    "gamma": lambda p: _other(Gamma(), p, shape=p["shape"] + 1.0),
    "exponential": lambda p: _other(Gamma(), p, shape=2.0),
    "inverse_gamma": lambda p: _other(InverseGamma(), p, shape=p["shape"] - 1.0),
    "lognormal": lambda p: _other(LogNormal(), p, location=p["location"] + p["scale"] ** 2),
    "beta": lambda p: _other(Beta(), p, alpha=p["alpha"] + 1.0),
    "pareto": lambda p: _other(Pareto(), p, shape=p["shape"] - 1.0),
    # On the scale where the times are exponential.
    "weibull": lambda p: (Gamma(), {"shape": 1.0 + 1.0 / p["shape"], "rate": np.asarray(1.0)}),
}
"""The distribution with density x f(x) / mean, for the density f of a family."""


def mean_by_quantiles(family: Family, p: Parameters) -> np.ndarray:
    """Return a mean by Gauss-Legendre in the probability scale.

    On pieces that shrink towards both ends, where quantiles are steep.
    """
    nodes, weights = np.polynomial.legendre.leggauss(_NODES)
    edges = np.concatenate([10.0 ** np.arange(-12, -0.5), [0.5]])
    edges = np.concatenate([[0.0], edges, 1 - edges[-2::-1], [1.0]])
    widths = np.diff(edges)[:, None]
    q = (edges[:-1, None] + widths * (nodes + 1) / 2).ravel()
    w = (widths * weights / 2).ravel()
    return _weighed(family, p, q, w)


def mean_by_slices(family: Family, p: Parameters) -> np.ndarray:
    """Return a mean by the midpoints of many equal slices of probability: for steps."""
    q = (np.arange(_SLICES) + 0.5) / _SLICES
    return _weighed(family, p, q, np.full(_SLICES, 1.0 / _SLICES))


def _weighed(family: Family, p: Parameters, q: np.ndarray, w: np.ndarray) -> np.ndarray:
    # One probability after the other: all at once would need gigabytes.
    total = np.asarray(0.0)
    for one, weight in zip(q, w, strict=True):
        total = total + weight * np.asarray(family.quantile(one, p))
    return total
