"""The skew-normal distribution."""

from __future__ import annotations

import math

import numpy as np
from scipy import special

from millwright.distributions import on_numpy
from millwright.distributions.family import Family, Parameter, Parameters
from millwright.distributions.far_tails import tail_quantile
from millwright.distributions.location_scale import LOCATION, SCALE, standard
from millwright.distributions.mathematics import Array, Mathematics
from millwright.distributions.owen import owen_t
from millwright.distributions.quadrature import TAIL_NODES, TAIL_WEIGHTS, reached

__all__ = ["SkewNormal"]

_LOG_TWICE = 0.5 * math.log(2 / math.pi)
_FARTHEST, _BEYOND, _ROUNDING = 40.0, 1e8, 1e-6
_LEAST_DIFFERENCE = 1e-6
_DECAYS = 3.0


class SkewNormal(Family):
    """Normal distribution bent to one side (Azzalini 1985, Scandinavian Journal of Statistics 12).

    The density is 2 phi(z) Phi(shape z) / scale with z = (x - location) / scale; `location` is
    not the mean unless `shape` is 0.
    """

    name = "skew_normal"
    summary = "bell curve bent to one side; location is not its mean"
    parameters = (
        LOCATION,
        SCALE,
        Parameter("shape", "real", "0 is normal, above 0 leans to the right"),
    )

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        z = standard(x, p)
        return self._log_standard(m, z, p["shape"]) - m.log(p["scale"])

    def _log_standard(self, m: Mathematics, z: Array, shape: Array) -> Array:
        return _LOG_TWICE - 0.5 * z * z + m.log_ndtr(shape * z)

    def _log_tail(self, m: Mathematics, z: Array, shape: Array, sign: Array) -> Array:
        """Log probability of a small tail beyond z in a direction, by quadrature in the log scale.

        The density is log concave: the nodes, in units of its decay at z, hold a far tail's
        digits too.
        """
        bent = shape * z
        near = m.maximum(bent, -_FARTHEST)
        ratio = m.exp(-0.5 * near**2 - m.log_ndtr(near)) / math.sqrt(2 * math.pi)
        decay = sign * (z - shape * m.maximum(ratio, -bent))
        unit = (1 / m.maximum(decay / _DECAYS, 1.0))[..., None]
        at = z[..., None] + sign[..., None] * unit * TAIL_NODES
        logs = self._log_standard(m, at, shape[..., None])
        return m.logsumexp(logs, b=unit * TAIL_WEIGHTS, axis=-1)

    def _log_side(self, m: Mathematics, x: Array, p: Parameters, sign: int) -> Array:
        z, shape = m.broadcast_arrays(m.asarray(standard(x, p)), m.asarray(p["shape"]))
        z = m.minimum(m.maximum(z, -_BEYOND), _BEYOND)
        twice = 2 * owen_t(m, z, shape)
        below, above = m.ndtr(z) - twice, m.ndtr(-z) + twice
        smaller = m.where(below < above, below, above)
        towards = m.where(below < above, -1.0, 1.0)
        # The difference has lost its digits in far tails.
        far = smaller < _LEAST_DIFFERENCE
        log_smaller = m.replaced(
            m.log(m.where(far, 1.0, smaller)), far, lambda: self._log_tail(m, z, shape, towards)
        )
        rest = m.log1p(-m.exp(m.minimum(log_smaller, -0.6)))
        return m.where(towards == sign, log_smaller, rest)

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self._log_side(m, x, p, -1)

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self._log_side(m, x, p, 1)

    def quantile(self, q: Array, p: Parameters) -> Array:
        shape = np.asarray(p["shape"], dtype=float)

        def quick(z: np.ndarray, shape: np.ndarray) -> Array:
            return special.ndtr(z) - 2 * special.owens_t(z, shape)

        # Between those of the normal (shape 0) and of the half normal (an infinite shape).
        straight, half_above = special.ndtri(q), special.ndtri((1 + np.asarray(q)) / 2)
        half_below = special.ndtri(np.asarray(q) / 2)
        low = np.where(shape < 0, half_below, straight) - _ROUNDING
        high = np.where(shape < 0, straight, half_above) + _ROUNDING
        low, high = (np.clip(end, -_FARTHEST, _FARTHEST) for end in (low, high))
        z = reached(quick, q, low, high, shape)
        shape = np.broadcast_to(shape, z.shape)
        far = np.broadcast_to(np.asarray(q) < 1e-7, z.shape)
        if far.any():
            z[far] = self._refined(z[far], np.broadcast_to(q, z.shape)[far], shape[far])
        z = np.where(np.asarray(q) <= 0, -np.inf, np.where(np.asarray(q) >= 1, np.inf, z))
        return p["location"] + p["scale"] * z

    def _refined(self, z: np.ndarray, q: np.ndarray, shape: np.ndarray) -> np.ndarray:
        """Return far quantiles anew: the quick form cancels in far tails."""
        below = np.full(z.shape, -1.0)
        with np.errstate(divide="ignore"):
            return tail_quantile(
                lambda z: self._log_tail(on_numpy, z, shape, below),
                lambda z: self._log_standard(on_numpy, z, shape),
                z,
                np.log(q),
                -1,
            )

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        mirror = {**p, "location": -p["location"], "shape": -p["shape"]}
        return -self.quantile(q, mirror)

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        lean = p["shape"] / np.sqrt(1 + np.square(p["shape"]))
        half, rest = (generator.standard_normal(size) for _ in range(2))
        return p["location"] + p["scale"] * (lean * np.abs(half) + np.sqrt(1 - lean**2) * rest)

    def mean(self, p: Parameters) -> Array:
        lean = p["shape"] / on_numpy.sqrt(1 + np.square(p["shape"]))
        return p["location"] + p["scale"] * lean * math.sqrt(2 / math.pi)
