"""The functions of `Mathematics` from NumPy and SciPy."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from numpy import (
    abs,
    arange,
    arctan,
    arctan2,
    array,
    asarray,
    broadcast_arrays,
    broadcast_to,
    concatenate,
    cos,
    cumsum,
    diagonal,
    einsum,
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
    tan,
    tanh,
    where,
    zeros,
    zeros_like,
)
from numpy.linalg import LinAlgError
from numpy.linalg import cholesky as _cholesky
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

__all__ = [
    "abs",
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
    "log1p",
    "log_ndtr",
    "logaddexp",
    "logical_and",
    "logical_not",
    "logical_or",
    "logit",
    "logsumexp",
    "max",
    "maximum",
    "ones_like",
    "lower_inverse",
    "mean",
    "minimum",
    "moveaxis",
    "eye",
    "ndtr",
    "pi",
    "scan",
    "sin",
    "sqrt",
    "stack",
    "sum",
    "swapaxes",
    "tan",
    "tanh",
    "where",
    "xlog1py",
    "xlogy",
    "zeros",
    "zeros_like",
]


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


def filled(values: ndarray, at: ndarray, new: ndarray) -> ndarray:
    """Return `values` (rows,) with `new` (..., gaps) in the places `at`; shape (..., rows)."""
    result = array(broadcast_to(values, (*new.shape[:-1], *values.shape)))
    result[..., at] = new
    return result
