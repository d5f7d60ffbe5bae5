"""The functions of `Mathematics` from NumPy and SciPy."""

from __future__ import annotations

import sys
from collections.abc import Callable
from typing import Any

from numpy import (
    abs,
    add,
    any,
    arange,
    arctan,
    arctan2,
    argsort,
    array,
    asarray,
    broadcast_arrays,
    broadcast_to,
    concatenate,
    cos,
    cumsum,
    diagonal,
    einsum,
    errstate,
    exp,
    expm1,
    eye,
    floor,
    full,
    inf,
    isfinite,
    linalg,
    log,
    log1p,
    log10,
    logaddexp,
    logical_and,
    logical_not,
    logical_or,
    max,
    maximum,
    mean,
    minimum,
    moveaxis,
    nan,
    ndarray,
    ones_like,
    pi,
    sin,
    sqrt,
    stack,
    sum,
    swapaxes,
    take_along_axis,
    tan,
    tanh,
    where,
    zeros,
    zeros_like,
)
from numpy.linalg import LinAlgError, cholesky as _cholesky
from scipy.special import (
    betainc,
    betaln,
    erf,
    expit,
    gammainc,
    gammaincc,
    gammaln,
    i0e,
    log_ndtr,
    logit,
    logsumexp,
    ndtr,
    xlog1py,
    xlogy,
)

from millwright.distributions import saddle_point, tails

__all__ = [
    "abs",
    "any",
    "arange",
    "arctan",
    "arctan2",
    "asarray",
    "betainc",
    "betaln",
    "broadcast_arrays",
    "broadcast_to",
    "cholesky",
    "concatenate",
    "cos",
    "cumsum",
    "diagonal",
    "einsum",
    "erf",
    "exp",
    "expit",
    "expm1",
    "filled",
    "floor",
    "gammainc",
    "gammaincc",
    "gammaln",
    "i0e",
    "gaussian_log_density",
    "inf",
    "isfinite",
    "log",
    "log10",
    "log_factorial",
    "log1p",
    "log_ndtr",
    "log_ndtr_tails",
    "logaddexp",
    "logical_and",
    "logical_not",
    "logical_or",
    "logit",
    "logsumexp",
    "max",
    "maximum",
    "ones_like",
    "log_beta_shares",
    "log_betainc",
    "log_binomial",
    "log_large_binomial",
    "log_gamma_shares",
    "log_gammainc",
    "log_gammaincc",
    "log_negative_binomial",
    "log_poisson",
    "lower_inverse",
    "mean",
    "minimum",
    "moveaxis",
    "eye",
    "ndtr",
    "pi",
    "replaced",
    "scan",
    "sin",
    "sqrt",
    "stack",
    "sum",
    "swapaxes",
    "tan",
    "tanh",
    "totals_at",
    "until",
    "where",
    "xlog1py",
    "xlogy",
    "zeros",
    "zeros_like",
]

_SELF: Any = sys.modules[__name__]


def cholesky(a: ndarray) -> ndarray:
    """Lower Cholesky factors of matrices (..., n, n); NaN where not positive definite."""
    try:
        return _cholesky(a)
    except LinAlgError:
        pass
    if a.ndim == 2:
        return full(a.shape, nan)
    return stack([cholesky(one) for one in a.reshape(-1, *a.shape[-2:])]).reshape(a.shape)


def gaussian_log_density(residual: ndarray, covariance: ndarray) -> ndarray:
    """Log density of normal vectors (..., n) around zero; matrices (..., n, n) broadcast."""
    factor = cholesky(asarray(covariance, dtype=float))
    inverse = lower_inverse(factor)
    z = einsum("...ij,...j->...i", inverse, residual)
    log_root = sum(log(diagonal(factor, axis1=-2, axis2=-1)), axis=-1)
    n = factor.shape[-1]
    return -0.5 * sum(z * z, axis=-1) - log_root - 0.5 * n * log(2 * pi)


def replaced(plain: Any, where_: Any, other: Callable[[], Any]) -> Any:
    """Return `plain`, or where a condition holds anywhere, `other()` in those places."""
    if not any(where_):
        return plain
    with errstate(all="ignore"):
        return where(where_, other(), plain)


def log_ndtr_tails(z: Any) -> tuple[ndarray, ndarray]:
    """Logs of P(Z < z) and P(Z > z) for standard normal Z."""
    return log_ndtr(z), log_ndtr(-asarray(z))


def until(go_on: Callable[[Any], Any], step: Callable[[Any], Any], state: Any) -> Any:
    """Apply `step` to a state as long as `go_on` holds."""
    while go_on(state):
        state = step(state)
    return state


_LEAST = 1e-280


_Shares = tuple[tuple[ndarray, ndarray], ndarray, Callable[[ndarray], tuple[ndarray, ndarray]]]
"""Shares below and above, what is inside the support, and the logs of both for some of them."""


def _log_of(shares: _Shares, side: int) -> ndarray:
    """Return the log of a share, from the other near 1, and by other means where it underflows.

    Only inside the support: at its ends the log of nothing is known.
    """
    both, inside, far = shares
    share, rest = both[side], both[1 - side]
    with errstate(divide="ignore"):
        found = where(rest < 0.5, log1p(-minimum(rest, 0.5)), log(share))
    lost = (share < _LEAST) & (rest > 0.5) & inside
    if lost.any():
        found = array(found)
        with errstate(all="ignore"):
            found[lost] = far(lost)[side]
    return found


def _gamma_shares(a: Any, x: Any) -> _Shares:
    a, x = broadcast_arrays(asarray(a, dtype=float), asarray(x, dtype=float))
    both = asarray(gammainc(a, x)), asarray(gammaincc(a, x))
    inside = (x > 0) & (x < inf)
    return both, inside, lambda lost: tails.log_gamma_shares(_SELF, a[lost], x[lost])


def log_gammainc(a: Any, x: Any) -> ndarray:
    """Log of the regularised lower incomplete gamma function, exact in far tails."""
    return _log_of(_gamma_shares(a, x), 0)


def log_gammaincc(a: Any, x: Any) -> ndarray:
    """Log of the regularised upper incomplete gamma function, exact in far tails."""
    return _log_of(_gamma_shares(a, x), 1)


def log_gamma_shares(a: Any, x: Any) -> tuple[ndarray, ndarray]:
    """Logs of both regularised incomplete gamma functions, the lower one first."""
    shares = _gamma_shares(a, x)
    return _log_of(shares, 0), _log_of(shares, 1)


def _beta_shares(a: Any, b: Any, x: Any, y: Any) -> _Shares:
    a, b, x, y = broadcast_arrays(*(asarray(part, dtype=float) for part in (a, b, x, y)))
    below = asarray(betainc(a, b, x))
    above = array(1.0 - below)
    # Each is slow; only where it is the smaller one would the difference lose digits.
    few = above < 0.5
    above[few] = betainc(b[few], a[few], y[few])
    inside = (x > 0) & (y > 0)
    return (
        (below, above),
        inside,
        lambda lost: tails.log_beta_shares(_SELF, a[lost], b[lost], x[lost], y[lost]),
    )


def log_betainc(a: Any, b: Any, x: Any, y: Any) -> ndarray:
    """Log of the regularised incomplete beta function at x, exact in far tails; y is 1 - x."""
    return _log_of(_beta_shares(a, b, x, y), 0)


def log_beta_shares(a: Any, b: Any, x: Any, y: Any) -> tuple[ndarray, ndarray]:
    """Logs of the shares of a beta distribution below and above x; y is 1 - x."""
    shares = _beta_shares(a, b, x, y)
    return _log_of(shares, 0), _log_of(shares, 1)


def log_factorial(x: Any) -> Any:
    """Return log of gamma(x + 1), for x > -1."""
    return gammaln(asarray(x) + 1.0)


def log_poisson(x: Any, rate: Any, log_rate: Any) -> Any:
    """Log of rate^x exp(-rate) / gamma(x + 1), exact for large arguments too."""
    return saddle_point.log_poisson(_SELF, x, rate, log_rate)


def log_binomial(x: Any, n: Any, log_p: Any, log_q: Any) -> Any:
    """Log of C(n, x) p^x q^(n - x), exact for large arguments too."""
    return saddle_point.log_binomial(_SELF, x, n, log_p, log_q)


def log_large_binomial(hits: Any, misses: Any, log_p: Any, log_q: Any) -> Any:
    """Log of C(n, x) p^x q^(n - x) for x hits and n - x misses, both large."""
    return saddle_point.log_large_binomial(_SELF, hits, misses, log_p, log_q)


def log_negative_binomial(x: Any, mean: Any, shape: Any) -> Any:
    """Log probability of a negative binomial count, exact for large arguments too."""
    return saddle_point.log_negative_binomial(_SELF, x, mean, shape)


def scan(step: Callable[[Any, Any], tuple[Any, Any]], carry: Any, over: Any) -> tuple[Any, Any]:
    """Apply `step(carry, item)` along the first axis of `over`; return the last carry and all."""
    several = isinstance(over, tuple)
    items = zip(*over, strict=True) if several else iter(over)
    found = []
    for item in items:
        carry, value = step(carry, item)
        found.append(value)
    if isinstance(found[0], tuple):
        return carry, tuple(stack(part) for part in zip(*found, strict=True))
    return carry, stack(found)


def lower_inverse(factor: ndarray) -> ndarray:
    """Inverse of lower triangular matrices (..., n, n)."""
    safe = where(isfinite(factor), factor, 0.0)
    broken = ~isfinite(factor).all(axis=(-1, -2))
    inverse = linalg.inv(where(broken[..., None, None], eye(factor.shape[-1]), safe))
    return where(broken[..., None, None], nan, inverse)


def triangle(rows: ndarray, order: ndarray) -> ndarray:
    """Upper triangles R of matrices (..., n, k), with R'R = rows'rows.

    Rows go by `order` (..., n), ascending: where their weights differ by many digits the heaviest
    must come first, or lighter ones are lost in rounding (Cox and Higham 1998).
    """
    taken = take_along_axis(rows, argsort(order, axis=-1)[..., None], axis=-2)
    broken = ~isfinite(taken).all(axis=(-1, -2))
    found = linalg.qr(where(broken[..., None, None], 0.0, taken), mode="r")
    return where(broken[..., None, None], nan, found)


def totals_at(values: ndarray, at: ndarray, size: int) -> ndarray:
    """Return sums of `values` (..., rows) in the places `at` (rows,), shape (..., size)."""
    result = zeros((size, *values.shape[:-1]))
    add.at(result, at, moveaxis(values, -1, 0))
    return moveaxis(result, 0, -1)


def filled(values: ndarray, at: ndarray, new: ndarray) -> ndarray:
    """Return `values` (rows,) with `new` (..., gaps) in the places `at`; shape (..., rows)."""
    result = array(broadcast_to(values, (*new.shape[:-1], *values.shape)))
    result[..., at] = new
    return result
