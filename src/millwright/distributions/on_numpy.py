"""The functions of `Mathematics` from NumPy and SciPy."""

from __future__ import annotations

from numpy import (
    abs,
    arange,
    arctan,
    arctan2,
    asarray,
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
    nan,
    ndarray,
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
    log_ndtr,
    logit,
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
    "floor",
    "gammainc",
    "gammaincc",
    "gammaln",
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
    "max",
    "maximum",
    "mean",
    "minimum",
    "ndtr",
    "pi",
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
    inverse = linalg.inv(where(isfinite(factor), factor, 0.0) + 1e-300 * eye(factor.shape[-1]))
    z = einsum("...ij,...j->...i", inverse, residual)
    log_root = sum(log(diagonal(factor, axis1=-2, axis2=-1)), axis=-1)
    n = factor.shape[-1]
    return -0.5 * sum(z * z, axis=-1) - log_root - 0.5 * n * log(2 * pi)
