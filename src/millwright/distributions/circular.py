"""Angles: the von Mises distribution."""

from __future__ import annotations

import math

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.family import Family, Parameter, Parameters, Support
from millwright.distributions.mathematics import Array, Mathematics
from millwright.distributions.quadrature import AT_ONCE, UNIT_NODES, UNIT_WEIGHTS, reached

__all__ = ["VonMises"]

_LEAST_DIFFERENCE = 1e-6


class VonMises(Family):
    """Angle in radians from -pi to pi around `location`, wrapping round.

    The log density is concentration (cos(x - location) - 1) minus the logarithm of 2 pi times
    the scaled Bessel function (Mardia and Jupp 2000, "Directional Statistics", eq. 3.5.17).
    """

    name = "von_mises"
    summary = "angle from -pi to pi, the normal distribution of the circle"
    parameters = (
        Parameter("location", "real", "central angle, in radians", positional=True),
        Parameter("concentration", "positive", "about 1 / variance when large; near 0 uniform"),
    )
    truncatable = False

    def support(self, p: Parameters) -> Support:
        return Support(-math.pi, math.pi)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self._log_density_at(m, x - p["location"], m.asarray(p["concentration"]))

    def _log_density_at(self, m: Mathematics, angle: Array, kappa: Array) -> Array:
        # cos(t) - 1 without cancellation near zero.
        dip = -2 * m.sin(angle / 2) ** 2
        return kappa * dip - m.log(2 * math.pi * m.i0e(kappa))

    def _mass(self, m: Mathematics, t: Array, kappa: Array) -> Array:
        """Probability from the centre to the angle t, odd in t, for |t| up to 2 pi."""
        turn = m.floor((t + math.pi) / (2 * math.pi))
        t = t - 2 * math.pi * turn
        # Ten standard deviations hold all the mass, so that the nodes lie where it is.
        reach = m.minimum(m.abs(t), 10 / m.sqrt(kappa) + 0.0 * t)
        nodes = reach[..., None] * UNIT_NODES
        density = m.exp(self._log_density_at(m, nodes, kappa[..., None]))
        half = reach * m.sum(density * UNIT_WEIGHTS, axis=-1)
        return turn + m.where(t < 0, -half, half)

    def _between(self, m: Mathematics, low: Array, high: Array, p: Parameters) -> Array:
        kappa = m.asarray(p["concentration"])
        low, high = (m.minimum(m.maximum(end, -math.pi), math.pi) for end in (low, high))
        masses = [self._mass(m, end - p["location"], kappa) for end in (low, high)]
        return m.maximum(masses[1] - masses[0], 0.0)

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self._log_between(m, m.asarray(-math.pi), x, p)

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self._log_between(m, x, m.asarray(math.pi), p)

    def _log_between(self, m: Mathematics, low: Array, high: Array, p: Parameters) -> Array:
        """Log probability between two angles; the difference has lost its digits in far tails."""
        mass = self._between(m, low, high, p)
        low, high = (m.minimum(m.maximum(end, -math.pi), math.pi) for end in (low, high))
        turns = m.floor((low - p["location"]) / (2 * math.pi))
        start, end = (at - p["location"] - 2 * math.pi * turns + 0.0 * mass for at in (low, high))
        tail = (mass < _LEAST_DIFFERENCE) & (end <= 2 * math.pi)
        within, kappa = m.minimum(end, 2 * math.pi), m.asarray(p["concentration"]) + 0.0 * mass
        return m.replaced(
            m.log(m.where(tail, 1.0, mass)), tail, lambda: self._log_tail(m, start, within, kappa)
        )

    def _log_tail(self, m: Mathematics, start: Array, end: Array, kappa: Array) -> Array:
        """Log probability between two angles from the centre within one turn.

        It is the sum of both sides of the point opposite, each from its end towards that point.
        """
        before = (m.minimum(start, math.pi), m.minimum(end, math.pi))
        after = (2 * math.pi - m.maximum(end, math.pi), 2 * math.pi - m.maximum(start, math.pi))
        nearest = m.minimum(before[0], after[0])
        mass = sum(self._relative_mass(m, *side, nearest, kappa) for side in (before, after))
        some = mass > 0
        height = self._log_density_at(m, nearest, kappa)
        return m.where(some, height + m.log(m.where(some, mass, 1.0)), -m.inf)

    def _relative_mass(
        self, m: Mathematics, start: Array, end: Array, nearest: Array, kappa: Array
    ) -> Array:
        """Mass between two distances from the centre over the density at the nearest one."""
        # Forty decays or ten standard deviations hold all the mass.
        decay = m.maximum(kappa * m.sin(start) / 40, m.sqrt(kappa) / 10)
        reach = m.maximum(m.minimum(end - start, 1 / decay), 0.0)
        at, nearest = start[..., None] + reach[..., None] * UNIT_NODES, nearest[..., None]
        # cos(at) - cos(nearest) without cancellation.
        dip = -2 * m.sin((at + nearest) / 2) * m.sin((at - nearest) / 2)
        return reach * m.sum(m.exp(kappa[..., None] * dip) * UNIT_WEIGHTS, axis=-1)

    def quantile(self, q: Array, p: Parameters) -> Array:
        def below(x: np.ndarray, location: np.ndarray, concentration: np.ndarray) -> Array:
            at = {"location": location, "concentration": concentration}
            return self._between(on_numpy, -np.pi, x, at)

        return reached(below, q, -np.pi, np.pi, p["location"], p["concentration"])

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        def above(x: np.ndarray, location: np.ndarray, concentration: np.ndarray) -> Array:
            at = {"location": location, "concentration": concentration}
            return self._between(on_numpy, -x, np.pi, at)

        return -reached(above, q, -np.pi, np.pi, p["location"], p["concentration"])

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        centre = (np.asarray(p["location"]) + np.pi) % (2 * np.pi) - np.pi
        return generator.vonmises(centre, p["concentration"], size)

    def mean(self, p: Parameters) -> Array:
        # Of the number between -pi and pi: the centre, but for what lies beyond the nearer end,
        # which counts a whole turn less or more.
        centre = (np.asarray(p["location"], dtype=float) + np.pi) % (2 * np.pi) - np.pi
        centre, kappa = np.broadcast_arrays(centre, np.asarray(p["concentration"], dtype=float))
        to_the_end = np.pi - np.abs(centre).ravel()
        inside = np.empty(centre.size)
        for start in range(0, centre.size, AT_ONCE):
            some = slice(start, start + AT_ONCE)
            inside[some] = self._mass(on_numpy, to_the_end[some], kappa.ravel()[some])
        beyond = np.maximum(0.5 - inside, 0.0).reshape(centre.shape)
        return np.asarray(centre - np.sign(centre) * 2 * np.pi * beyond)
