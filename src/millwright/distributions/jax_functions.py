"""Elementary and special functions from JAX, in double precision.

Importing this module switches JAX to double precision for the whole process: posteriors in
single precision are wrong in ways that no diagnostic shows.
"""

from __future__ import annotations

from typing import Any

import jax
import jax.numpy as jnp
from jax.lax import scan
from jax.numpy import (
    abs,
    any,
    arange,
    arctan,
    arctan2,
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
    inf,
    isfinite,
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
from jax.scipy.special import (
    digamma,
    erf,
    expit,
    gammainc,
    gammaincc,
    gammaln,
    i0e,
    logit,
    logsumexp,
    ndtr,
    xlog1py,
    xlogy,
)

from millwright.distributions.jax_gamma import betaln, log_factorial

__all__ = [
    "abs",
    "any",
    "arange",
    "arctan",
    "arctan2",
    "asarray",
    "betaln",
    "broadcast_arrays",
    "broadcast_to",
    "concatenate",
    "cos",
    "cumsum",
    "diagonal",
    "digamma",
    "einsum",
    "erf",
    "exp",
    "expit",
    "expm1",
    "eye",
    "filled",
    "floor",
    "gammainc",
    "gammaincc",
    "gammaln",
    "i0e",
    "inf",
    "isfinite",
    "log",
    "log10",
    "log1p",
    "log_factorial",
    "logaddexp",
    "logical_and",
    "logical_not",
    "logical_or",
    "logit",
    "logsumexp",
    "max",
    "maximum",
    "mean",
    "minimum",
    "moveaxis",
    "ndtr",
    "ones_like",
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


def replaced(plain: jax.Array, where_: jax.Array, other: Any) -> jax.Array:
    """Return `plain`, or where a condition holds anywhere, `other()` in those places.

    What nothing needs is not computed, unless many points are looked at side by side. No argument
    of `other` is wider than `plain` and the condition are together.
    """
    shape = jnp.broadcast_shapes(jnp.shape(plain), jnp.shape(where_))
    return jax.lax.cond(
        jnp.any(where_),
        lambda: where(where_, other(), plain),
        lambda: broadcast_to(plain, shape),
    )


def until(go_on: Any, step: Any, state: Any) -> Any:
    """Apply `step` to a state as long as `go_on` holds."""
    start = jax.tree.map(lambda part: jnp.asarray(part, dtype=float), state)
    return jax.lax.while_loop(go_on, step, start)


def totals_at(values: jax.Array, at: jax.Array, size: int) -> jax.Array:
    """Return sums of `values` (..., rows) in the places `at` (rows,), shape (..., size)."""
    return zeros((*values.shape[:-1], size)).at[..., at].add(values)


def filled(values: jax.Array, at: jax.Array, new: jax.Array) -> jax.Array:
    """Return `values` (rows,) with `new` (..., gaps) in the places `at`; shape (..., rows)."""
    return broadcast_to(values, (*new.shape[:-1], *values.shape)).at[..., at].set(new)
