"""Processes along an ordered label set or the rows of a table.

Each has a standard form: independent standard draws u are mapped onto the process, which is how
it is sampled as an unknown, and how it is simulated.
"""

from __future__ import annotations

from abc import abstractmethod

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.chain_smoothing import Chain
from millwright.distributions.family import Parameter, Parameters
from millwright.distributions.location_scale import Normal, StudentT
from millwright.distributions.mathematics import Array, Mathematics
from millwright.distributions.vector import VectorFamily

__all__ = [
    "JITTER",
    "Autoregressive",
    "ChainProcess",
    "GaussianProcess",
    "Process",
    "WalkProcess",
]

_NORMAL, _STUDENT = Normal(), StudentT()
JITTER = 1e-8


def _standard_density(m: Mathematics, u: Array, p: Parameters) -> Array:
    """Log density of standard steps: normal, or Student-t if there is a `df`."""
    if "df" in p:
        one = {"location": 0.0, "scale": 1.0, "df": m.asarray(p["df"])[..., None]}
        return _STUDENT.log_density(m, u, one)
    return _NORMAL.log_density(m, u, {"location": 0.0, "scale": 1.0})


class Process(VectorFamily):
    """A vector made from independent standard steps."""

    over_rows = True

    @abstractmethod
    def from_steps(self, m: Mathematics, u: Array, p: Parameters) -> Array:
        """Return the process for standard steps u, both (..., n)."""

    @abstractmethod
    def to_steps(self, x: Array, p: Parameters) -> Array:
        """Return the standard steps of a process (NumPy)."""

    def log_steps(self, m: Mathematics, u: Array, p: Parameters) -> Array:
        """Log density of the standard steps."""
        return m.sum(_standard_density(m, u, p), axis=-1)

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        if "df" in p:
            u = generator.standard_t(np.asarray(p["df"])[..., None], size)
        else:
            u = generator.standard_normal(size)
        return np.asarray(self.from_steps(on_numpy, u, p))


class ChainProcess(Process):
    """A series whose values rest on those before."""

    @abstractmethod
    def chain(self, m: Mathematics, n: int, p: Parameters) -> Chain:
        """Return it as values that rest on the one before alone, which they must."""


class WalkProcess(ChainProcess):
    """x_1 = start + scale u_1, x_t = x_{t-1} + drift + scale u_t, with normal or t steps."""

    name = "random_walk"
    summary = "each value is the one before plus a step of size scale; the first starts at start"
    parameters = (
        Parameter("start", "real", "value before the first step"),
        Parameter("scale", "positive", "size of a step, in the quantity's own unit", rank=1),
        Parameter("drift", "real", "added with each step after the first", optional=True),
        Parameter("df", "positive", "Student-t steps, which allow jumps", optional=True),
    )

    def _line(self, m: Mathematics, n: int, p: Parameters) -> Array:
        base = m.asarray(p["start"])[..., None]
        if "drift" not in p:
            return base
        return base + m.asarray(p["drift"])[..., None] * m.arange(n)

    def from_steps(self, m: Mathematics, u: Array, p: Parameters) -> Array:
        return self._line(m, u.shape[-1], p) + m.cumsum(p["scale"] * u, axis=-1)

    def to_steps(self, x: Array, p: Parameters) -> Array:
        rest = np.asarray(x - self._line(on_numpy, x.shape[-1], p))
        return np.diff(rest, axis=-1, prepend=0.0) / p["scale"]

    def chain(self, m: Mathematics, n: int, p: Parameters) -> Chain:
        return Chain(self._line(m, n, p), 1.0, p["scale"])

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        rest = x - self._line(m, x.shape[-1], p)
        steps = m.concatenate([rest[..., :1], rest[..., 1:] - rest[..., :-1]], axis=-1)
        each = _standard_density(m, steps / p["scale"], p) - m.log(p["scale"])
        return m.sum(each, axis=-1)

    def mean(self, p: Parameters) -> Array:
        return self._line(on_numpy, np.shape(p["scale"])[-1], p)


class Autoregressive(ChainProcess):
    """x_t - location_t = sum_k coefficients_k (x_{t-k} - location_{t-k}) + scale u_t.

    The first values, as many as there are coefficients, are normal around their locations with
    standard deviation `start_scale`.
    """

    name = "autoregressive"
    summary = "each value leans on those before it; the first ones have spread start_scale"
    parameters = (
        Parameter("location", "real", "level that the series returns to", True, rank=1),
        Parameter("scale", "positive", "size of a step, in the quantity's own unit", True),
        Parameter(
            "coefficients",
            "real",
            "weights of the values before, the last one first",
            rank=1,
            own_labels=True,
        ),
        Parameter("start_scale", "positive", "spread of the first values around location"),
    )

    def _scales(self, m: Mathematics, n: int, p: Parameters) -> Array:
        order = p["coefficients"].shape[-1]
        first = m.arange(n) < order
        start, scale = (m.asarray(p[k])[..., None] for k in ("start_scale", "scale"))
        return m.where(first, start, scale)

    def _remainder(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        """Return what each value adds to what those before it say."""
        rest = x - m.asarray(p["location"])
        n, order = x.shape[-1], p["coefficients"].shape[-1]
        told = 0.0 * rest
        for k in range(1, min(order, n - 1) + 1):
            before = m.concatenate([0.0 * rest[..., :k], rest[..., :-k]], axis=-1)
            told = told + m.asarray(p["coefficients"])[..., k - 1, None] * before
        return rest - m.where(m.arange(n) < order, 0.0, told)

    def chain(self, m: Mathematics, n: int, p: Parameters) -> Chain:
        carried = m.asarray(p["coefficients"])
        assert carried.shape[-1] == 1
        return Chain(m.asarray(p["location"]), carried, self._scales(m, n, p))

    def from_steps(self, m: Mathematics, u: Array, p: Parameters) -> Array:
        coefficients = m.asarray(p["coefficients"])
        order = coefficients.shape[-1]
        steps = u * self._scales(m, u.shape[-1], p)

        def following(before: Array, now: tuple[Array, Array]) -> tuple[Array, Array]:
            step, started = now
            told = m.sum(coefficients * before, axis=-1)
            value = step + m.where(started, told, 0.0)
            return m.concatenate([value[..., None], before[..., :-1]], axis=-1), value

        times = m.moveaxis(steps, -1, 0)
        shape = np.broadcast_shapes(steps.shape[:-1], coefficients.shape[:-1])
        times = m.broadcast_to(times, (u.shape[-1], *shape))
        started = m.arange(u.shape[-1]) >= order
        _, values = m.scan(following, m.zeros((*shape, order)), (times, started))
        return m.moveaxis(values, 0, -1) + m.asarray(p["location"])

    def to_steps(self, x: Array, p: Parameters) -> Array:
        return self._remainder(on_numpy, x, p) / self._scales(on_numpy, x.shape[-1], p)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        scales = self._scales(m, x.shape[-1], p)
        each = _standard_density(m, self._remainder(m, x, p) / scales, p) - m.log(scales)
        return m.sum(each, axis=-1)

    def mean(self, p: Parameters) -> Array:
        return np.asarray(p["location"], dtype=float)


class GaussianProcess(Process):
    """Smooth function with covariance `kernel`, with independent noise of size `noise` if given.

    Without noise 1e-8 of the mean variance is added to the diagonal, so that close inputs do
    not make the matrix singular. References: `kernels`.
    """

    name = "gaussian_process"
    summary = (
        "function of unknown shape with the covariance kernel; noise, if given, is summed out"
    )
    parameters = (
        Parameter("location", "real", "mean function", True, rank=1),
        Parameter("kernel", "real", "covariance of all pairs of places", rank=2),
        Parameter(
            "noise", "positive", "standard deviation of independent noise", rank=1, optional=True
        ),
    )

    def covariance(self, m: Mathematics, p: Parameters) -> Array:
        """Return the covariance matrix, noise or jitter included."""
        kernel = m.asarray(p["kernel"])
        n = kernel.shape[-1]
        if "noise" in p:
            extra = m.asarray(p["noise"]) ** 2
        else:
            diagonal = m.diagonal(kernel, axis1=-2, axis2=-1)
            extra = JITTER * m.mean(diagonal, axis=-1, keepdims=True)
        return kernel + extra[..., None] * m.eye(n)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return m.gaussian_log_density(x - p["location"], self.covariance(m, p))

    def from_steps(self, m: Mathematics, u: Array, p: Parameters) -> Array:
        factor = m.cholesky(self.covariance(m, p))
        return p["location"] + m.einsum("...ij,...j->...i", factor, u)

    def to_steps(self, x: Array, p: Parameters) -> Array:
        factor = on_numpy.cholesky(np.asarray(self.covariance(on_numpy, p)))
        return np.linalg.solve(factor, np.asarray(x - p["location"])[..., None])[..., 0]

    def mean(self, p: Parameters) -> Array:
        return np.asarray(p["location"], dtype=float)
