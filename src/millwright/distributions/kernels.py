"""Covariance functions of Gaussian processes.

Rasmussen and Williams (2006), "Gaussian Processes for Machine Learning", chapter 4. Inputs have
shape (..., n) or (..., n, d); results (..., n, n). `scale` is a standard deviation and `length`
is in the inputs' own unit. Gradients at zero distance are finite.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from millwright.distributions.mathematics import Array, Mathematics

__all__ = ["KERNELS", "Kernel"]

KernelParameters = dict[str, Array]


def _differences(x: Array) -> Array:
    """Differences between all pairs, shape (..., n, n) or (..., n, n, d)."""
    return x[..., :, None] - x[..., None, :]


def _square(m: Mathematics, x: Array, length: Array, several: bool) -> Array:
    """Squared distance in units of `length`, shape (..., n, n)."""
    if not several:
        return (_differences(x) / length[..., None, None]) ** 2
    scaled = x / (length[..., None, :] if length.ndim else length)
    gaps = scaled[..., :, None, :] - scaled[..., None, :, :]
    return m.sum(gaps * gaps, axis=-1)


def _root(m: Mathematics, square: Array) -> Array:
    """Square root whose gradient at zero is zero."""
    apart = square > 0
    return m.where(apart, m.sqrt(m.where(apart, square, 1.0)), 0.0)


def _squared_exponential(m: Mathematics, x: Array, p: KernelParameters, several: bool) -> Array:
    return m.exp(-0.5 * _square(m, x, p["length"], several))


def _matern32(m: Mathematics, x: Array, p: KernelParameters, several: bool) -> Array:
    r = math.sqrt(3) * _root(m, _square(m, x, p["length"], several))
    return (1 + r) * m.exp(-r)


def _matern52(m: Mathematics, x: Array, p: KernelParameters, several: bool) -> Array:
    square = _square(m, x, p["length"], several)
    r = math.sqrt(5) * _root(m, square)
    return (1 + r + 5 / 3 * square) * m.exp(-r)


def _periodic(m: Mathematics, x: Array, p: KernelParameters, several: bool) -> Array:
    wave = m.sin(math.pi * _differences(x) / p["period"][..., None, None])
    return m.exp(-2 * (wave / p["length"][..., None, None]) ** 2)


def _linear(m: Mathematics, x: Array, p: KernelParameters, several: bool) -> Array:
    if several:
        return x @ m.swapaxes(x, -1, -2)
    return x[..., :, None] * x[..., None, :]


@dataclass(frozen=True)
class Kernel:
    """A covariance function: its shape for a scale of 1, and its arguments after the input."""

    shape: Callable[[Mathematics, Array, KernelParameters, bool], Array]
    arguments: tuple[str, ...]
    summary: str
    several: bool = True

    def __call__(
        self, m: Mathematics, x: Array, parameters: KernelParameters, several: bool
    ) -> Array:
        """Return the covariance of all pairs of inputs; `several` says x is (..., n, d)."""
        variance = m.asarray(parameters["scale"]) ** 2
        return variance[..., None, None] * self.shape(m, x, parameters, several)


KERNELS: dict[str, Kernel] = {
    "squared_exponential": Kernel(
        _squared_exponential, ("scale", "length"), "very smooth functions"
    ),
    "matern32": Kernel(_matern32, ("scale", "length"), "functions with a slope, no curvature"),
    "matern52": Kernel(_matern52, ("scale", "length"), "functions with slope and curvature"),
    "periodic": Kernel(
        _periodic,
        ("scale", "length", "period"),
        "functions that repeat; length is relative to the wave",
        several=False,
    ),
    "linear": Kernel(_linear, ("scale",), "straight lines through zero, slopes of size scale"),
}
