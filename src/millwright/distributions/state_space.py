"""Linear Gaussian state-space models, with the states summed out by the Kalman filter.

Durbin and Koopman (2012), "Time Series Analysis by State Space Methods", sections 4.3 (filter)
and 4.9 (simulation smoothing; here by sampling backwards, Fruehwirth-Schnatter 1994).
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.family import Parameter, Parameters
from millwright.distributions.mathematics import Array, Mathematics
from millwright.distributions.vector import VectorFamily

__all__ = ["StateSpace"]


class StateSpace(VectorFamily):
    """y_t = location_t + loading' state_t + noise e_t, state_{t+1} = transition state_t + step.

    A reading that is missing (NaN) is passed over: the state moves on without one.

    The first state is normal around `start` with standard deviations `start_scale`; steps have
    standard deviations `scale`. Rows are in the order of time.
    """

    name = "state_space"
    summary = "series that reads off a hidden state moving in time; the states are summed out"
    over_rows = True
    parameters = (
        Parameter(
            "transition", "real", "matrix from a state to the next", rank=2, own_labels=True
        ),
        Parameter(
            "loading", "real", "weights of the states in a reading", rank=1, own_labels=True
        ),
        Parameter("scale", "real", "size of the steps of each state", rank=1, own_labels=True),
        Parameter("noise", "positive", "standard deviation of a reading"),
        Parameter("start", "real", "mean of the first state", rank=1, own_labels=True),
        Parameter("start_scale", "positive", "spread of the first state", rank=1, own_labels=True),
        Parameter("location", "real", "added to each reading", rank=1, optional=True),
    )

    def _parts(self, m: Mathematics, p: Parameters) -> tuple[Array, ...]:
        """Return transition, loading, step and first variances and mean, on one batch shape."""
        t, z, q, a, s = (
            m.asarray(p[name])
            for name in ("transition", "loading", "scale", "start", "start_scale")
        )
        n = t.shape[-1]
        return (
            t,
            z,
            q[..., None] * m.eye(n) * q[..., None],
            a,
            s[..., None] * m.eye(n) * s[..., None],
        )

    def filtered(self, m: Mathematics, x: Array, p: Parameters) -> tuple[Array, ...]:
        """Run the filter.

        Returns
        -------
        Log density of each reading given those before, shape (n, ...); and means (n, ..., k)
        and covariances (n, ..., k, k) of each state given the readings up to its own.
        """
        transition, loading, steps, start, spread = self._parts(m, p)
        noise = m.asarray(p["noise"]) ** 2
        values = m.moveaxis(m.asarray(x - p.get("location", 0.0)), -1, 0)
        batch = np.broadcast_shapes(
            values.shape[1:],
            noise.shape,
            loading.shape[:-1],
            start.shape[:-1],
            transition.shape[:-2],
            spread.shape[:-2],
            steps.shape[:-2],
        )
        k = transition.shape[-1]

        def update(carry: tuple[Array, Array], y: Array) -> tuple[tuple[Array, Array], Any]:
            mean, cov = carry
            known = y == y
            y = m.where(known, y, 0.0)
            lean = m.einsum("...ij,...j->...i", cov, loading)
            variance = m.sum(loading * lean, axis=-1) + noise
            error = y - m.sum(loading * mean, axis=-1)
            log_p = -0.5 * (error * error / variance + m.log(2 * math.pi * variance))
            log_p = m.where(known, log_p, 0.0)
            gain = m.where(known[..., None], lean / variance[..., None], 0.0)
            mean = mean + gain * error[..., None]
            cov = cov - gain[..., :, None] * lean[..., None, :]
            next_mean = m.einsum("...ij,...j->...i", transition, mean)
            next_cov = transition @ cov @ m.swapaxes(transition, -1, -2) + steps
            # Rounding would make the matrix lean over in long series.
            next_cov = 0.5 * (next_cov + m.swapaxes(next_cov, -1, -2))
            return (next_mean, next_cov), (log_p, mean, cov)

        first = (m.broadcast_to(start, (*batch, k)), m.broadcast_to(spread, (*batch, k, k)))
        lead = (1,) * (len(batch) + 1 - values.ndim)
        values = values.reshape((values.shape[0], *lead, *values.shape[1:]))
        _, found = m.scan(update, first, m.broadcast_to(values, (values.shape[0], *batch)))
        return found

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        compiled = getattr(m, "kalman_log_density", None)
        parts = self._parts(m, p)
        values = m.asarray(x - p.get("location", 0.0))
        alone = [part.ndim for part in parts] == [2, 1, 2, 1, 2]
        if compiled is None or not alone or values.ndim != 1 or m.asarray(p["noise"]).ndim:
            return m.sum(self.filtered(m, x, p)[0], axis=0)
        transition, loading, steps, start, spread = parts
        read = values == values
        return compiled(
            loadings=loading[None],
            transition=transition,
            steps=steps,
            mean=start,
            spread=spread,
            errors=m.asarray(p["noise"])[None],
            readings=m.where(read, values, 0.0)[:, None],
            read=read[:, None],
        )

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        transition, loading, _, start, _ = self._parts(on_numpy, p)
        k = transition.shape[-1]
        spread = np.asarray(p["start_scale"])
        state = start + spread * generator.standard_normal((*size[:-1], k))
        values = []
        for _ in range(size[-1]):
            reading = np.sum(loading * state, axis=-1)
            values.append(reading + p["noise"] * generator.standard_normal(size[:-1]))
            state = np.einsum("...ij,...j->...i", transition, state)
            state = state + p["scale"] * generator.standard_normal((*size[:-1], k))
        return np.stack(values, axis=-1) + p.get("location", 0.0)

    def mean(self, p: Parameters) -> Array:
        # The rows are not known here; draws say more.
        return np.full(np.shape(p["noise"]), np.nan)[..., None]

    def ahead(
        self, generator: np.random.Generator, x: Array, p: Parameters, steps_ahead: int
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Go on from the last reading (NumPy).

        Parameters
        ----------
        x
            Readings, shape (n,).
        p
            Arguments; a `location` has n + steps_ahead entries, or one.

        Returns
        -------
        One path of the reading without noise for each draw, and mean and variance of the reading
        with noise; shape (draws, steps_ahead) each.
        """
        n = np.shape(x)[-1]
        location = np.asarray(p.get("location", np.zeros(1)))
        seen = dict(p) | ({"location": location[..., :n]} if location.shape[-1] > 1 else {})
        _, means, covs = self.filtered(on_numpy, x, seen)
        transition, loading, steps, _, _ = self._parts(on_numpy, p)
        mean, cov = means[-1], covs[-1]
        state = _normal(generator, mean, cov)
        paths, centres, variances = [], [], []
        for _ in range(steps_ahead):
            mean = np.einsum("...ij,...j->...i", transition, mean)
            cov = transition @ cov @ np.swapaxes(transition, -1, -2) + steps
            state = np.einsum("...ij,...j->...i", transition, state)
            state = state + np.asarray(p["scale"]) * generator.standard_normal(state.shape)
            lean = np.einsum("...ij,...j->...i", cov, loading)
            paths.append(np.sum(loading * state, axis=-1))
            centres.append(np.sum(loading * mean, axis=-1))
            variances.append(np.sum(loading * lean, axis=-1) + np.asarray(p["noise"]) ** 2)
        later = location[..., n:] if location.shape[-1] > 1 else location
        stacked = [np.stack(part, axis=-1) for part in (paths, centres, variances)]
        return stacked[0] + later, stacked[1] + later, stacked[2]

    def draw_states(self, generator: np.random.Generator, x: Array, p: Parameters) -> np.ndarray:
        """Draw all states given all readings, shape (..., n, k) (NumPy)."""
        _, means, covs = self.filtered(on_numpy, x, p)
        transition, _, steps, _, _ = self._parts(on_numpy, p)
        state = _normal(generator, means[-1], covs[-1])
        states = [state]
        for mean, cov in zip(means[-2::-1], covs[-2::-1], strict=True):
            ahead = transition @ cov @ np.swapaxes(transition, -1, -2) + steps
            back = cov @ np.swapaxes(transition, -1, -2) @ np.linalg.pinv(ahead, hermitian=True)
            told = np.einsum("...ij,...j->...i", transition, mean)
            mean = mean + np.einsum("...ij,...j->...i", back, state - told)
            cov = cov - back @ ahead @ np.swapaxes(back, -1, -2)
            state = _normal(generator, mean, cov)
            states.append(state)
        return np.stack(states[::-1], axis=-2)


def _normal(generator: np.random.Generator, mean: Array, cov: Array) -> np.ndarray:
    """Draw normal vectors whose covariance may be singular."""
    values, vectors = np.linalg.eigh(0.5 * (cov + np.swapaxes(cov, -1, -2)))
    z = np.sqrt(np.maximum(values, 0.0)) * generator.standard_normal(mean.shape)
    return mean + np.einsum("...ij,...j->...i", vectors, z)
