"""What a formula needs from an array library, so that each formula is written once.

Log densities run compiled, under JAX, while sampling, and under NumPy and SciPy for prior
draws, derived quantities and checks. `Mathematics` lists the functions that both provide.
"""

from __future__ import annotations

from typing import Any, Protocol

__all__ = ["Array", "Mathematics", "log_diff_exp", "softplus"]

Array = Any
"""A NumPy or JAX array of float64; each docstring states its shape."""


class Mathematics(Protocol):
    """Functions of arrays, by the names NumPy and SciPy use."""

    inf: float

    def __getattr__(self, name: str) -> Any: ...


def softplus(m: Mathematics, x: Array) -> Array:
    """Return log(1 + exp(x)) without overflow."""
    return m.logaddexp(0.0, x)


def log_diff_exp(m: Mathematics, a: Array, b: Array) -> Array:
    """Return log(exp(a) - exp(b)) for a >= b, without cancellation.

    Uses log(1 - exp(-x)) as log(-expm1(-x)) for small x and log1p(-exp(-x)) for large x
    (Maechler 2012, eq. 7).
    """
    gap = a - b
    small = gap < 0.693
    near = m.where(small & (gap > 0), gap, 0.5)
    far = m.where(small, 1.0, gap)
    shrink = m.where(small, m.log(-m.expm1(-near)), m.log1p(-m.exp(-far)))
    return m.where(gap > 0, a + shrink, -m.inf)
