"""Linear Gaussian state-space models, with the states summed out by the Kalman filter.

Durbin and Koopman (2012), "Time Series Analysis by State Space Methods", sections 4.3 (filter)
and 4.9 (simulation smoothing; here by sampling backwards, Fruehwirth-Schnatter 1994).
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.family import Parameter, Parameters
from millwright.distributions.filtering import System, filtered
from millwright.distributions.mathematics import Array, Mathematics
from millwright.distributions.open_start import Start, start_of
from millwright.distributions.vector import VectorFamily
from millwright.errors import ModelError

__all__ = ["Ahead", "StateSpace"]


class Ahead(NamedTuple):
    """How a series goes on, (draws, steps) each.

    Attributes
    ----------
    paths
        One path of what is read, without noise, for each draw.
    means, variances
        Of the reading with its noise.
    noises
        Standard deviations of the readings around the paths.
    """

    paths: np.ndarray
    means: np.ndarray
    variances: np.ndarray
    noises: np.ndarray


class StateSpace(VectorFamily):
    """y_t = location_t + loading_t' state_t + noise_t e_t, state_{t+1} = transition state_t + s_t.

    A reading that is missing (NaN) is passed over: the state moves on without one.

    The first state is normal around `start` with standard deviations `start_scale`; without
    either it is anywhere (a flat density of 1). Steps have standard deviations `scale`. Rows are
    in the order of time; with `time`, rows of one time read the same state.
    """

    name = "state_space"
    summary = "series that reads off a hidden state moving in time; the states are summed out"
    over_rows = True
    parameters = (
        Parameter(
            "transition", "real", "matrix from a state to the next", rank=2, own_labels=True
        ),
        Parameter(
            "loading",
            "real",
            "weights of the states in a reading",
            rank=1,
            own_labels=True,
            by_entry=True,
        ),
        Parameter("scale", "real", "size of the steps of each state", rank=1, own_labels=True),
        Parameter("noise", "positive", "standard deviation of a reading", rank=1),
        Parameter(
            "start",
            "real",
            "mean of the first state",
            rank=1,
            own_labels=True,
            optional=True,
            given_with="start_scale",
        ),
        Parameter(
            "start_scale",
            "positive",
            "spread of the first state; without `start` and this one it may be anything",
            rank=1,
            own_labels=True,
            optional=True,
            given_with="start",
        ),
        Parameter("location", "real", "added to each reading", rank=1, optional=True),
        Parameter(
            "time",
            "real",
            "rows of one time read one state, which moves once to the next time",
            rank=1,
            optional=True,
        ),
    )

    def _system(self, m: Mathematics, p: Parameters, rows: int) -> System:
        transition = m.asarray(p["transition"])
        start, spread = (m.asarray(p.get(name, 0.0)) for name in ("start", "start_scale"))
        k = transition.shape[-1]
        scale = m.asarray(p["scale"])
        return System(
            transition=transition,
            steps=_diagonal(m, scale),
            loading=m.asarray(p["loading"]),
            noise=m.asarray(p["noise"]) ** 2,
            mean=m.broadcast_to(start, (*start.shape[:-1], k)),
            spread=_diagonal(m, m.broadcast_to(spread, (*spread.shape[:-1], k))),
            moves=_moves(m, p, rows),
        )

    def _readings(self, m: Mathematics, x: Array, p: Parameters) -> tuple[Array, Array]:
        values = m.asarray(x - p.get("location", 0.0))
        read = values == values
        return m.where(read, values, 0.0), read

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        values, read = self._readings(m, x, p)
        system = self._system(m, p, values.shape[-1])
        alone = [part.ndim for part in system] == [2, 2, 2, 1, 1, 2, 1] and values.ndim == 1
        if hasattr(m, "kalman_log_density") and alone:
            return _compiled(m, values, read, system, p)
        if "start" not in p:
            return start_of(m, values, read, system).log_density
        return m.sum(filtered(m, values, read, system).log_densities(m), axis=0)

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        if "start" not in p:
            raise ModelError(
                "The first state of a series without `start` may be anything, so nothing can be "
                "drawn of it before there are readings. Give `start` and `start_scale`."
            )
        system = self._system(on_numpy, p, size[-1])
        state = _normal(generator, system, size[:-1])
        return _read_on(generator, system, state, p, size)

    def mean(self, p: Parameters) -> Array:
        # The rows are not known here; draws say more.
        return np.full(np.shape(p["noise"])[:-1], np.nan)[..., None]

    def first_state(self, x: Array, p: Parameters) -> Start:
        """Return the first state given all readings, whatever its start says (NumPy)."""
        values, read = self._readings(on_numpy, x, p)
        return start_of(on_numpy, values, read, self._system(on_numpy, p, values.shape[-1]))

    def _known_start(
        self, generator: np.random.Generator, x: Array, p: Parameters, draws: int
    ) -> tuple[Array, Array, System]:
        """Return readings, which exist, and the system; a flat first state is drawn (NumPy)."""
        values, read = self._readings(on_numpy, x, p)
        system = self._system(on_numpy, p, values.shape[-1])
        if "start" not in p:
            first = start_of(on_numpy, values, read, system)
            system = system._replace(mean=first.draw(generator, draws))
        return values, read, system

    def ahead(
        self, generator: np.random.Generator, x: Array, p: Parameters, steps_ahead: int, draws: int
    ) -> Ahead:
        """Go on from the last reading (NumPy).

        Parameters
        ----------
        x
            Readings, shape (n,).
        p
            Arguments for each draw; what differs from row to row has n + steps_ahead entries.
        """
        n = np.shape(x)[-1]
        longer = np.concatenate([x, np.full(steps_ahead, np.nan)])
        values, read, system = self._known_start(generator, longer, p, draws)
        found = filtered(on_numpy, values, read, system)
        rows = n + steps_ahead
        loading, noise, moves = _by_row(system, rows)
        location = _along(np.asarray(p.get("location", np.zeros(1))), rows)[..., n:]
        means = np.sum(loading * np.moveaxis(found.means, 0, -2), axis=-1)[..., n:] + location
        variances = np.moveaxis(found.variances, 0, -1)[..., n:]
        state = _normal_state(generator, found.means[n - 1], found.spreads[n - 1], draws)
        paths = []
        for row in range(n, rows):
            state = _moved(generator, system, state, p, moves[..., row - 1])
            paths.append(np.sum(loading[..., row, :] * state, axis=-1))
        size = (draws, steps_ahead)
        return Ahead(
            paths=np.stack(paths, axis=-1) + location,
            means=np.broadcast_to(means, size),
            variances=np.broadcast_to(variances, size),
            noises=np.broadcast_to(np.sqrt(noise[..., n:]), size),
        )

    def draw_states(
        self, generator: np.random.Generator, x: Array, p: Parameters, draws: int
    ) -> np.ndarray:
        """Draw all states given all readings, shape (draws, n, k) (NumPy)."""
        values, read, system = self._known_start(generator, x, p, draws)
        found = filtered(on_numpy, values, read, system)
        transition = system.transition
        _, _, moves = _by_row(system, values.shape[-1])
        state = _normal_state(generator, found.means[-1], found.spreads[-1], draws)
        states = [state]
        for row in range(len(found.means) - 2, -1, -1):
            mean, cov, move = found.means[row], found.spreads[row], moves[..., row]
            ahead = transition @ cov @ np.swapaxes(transition, -1, -2) + system.steps
            back = cov @ np.swapaxes(transition, -1, -2) @ np.linalg.pinv(ahead, hermitian=True)
            told = np.einsum("...ij,...j->...i", transition, mean)
            mean = mean + np.einsum("...ij,...j->...i", back, state - told)
            cov = cov - back @ ahead @ np.swapaxes(back, -1, -2)
            before = _normal_state(generator, mean, cov, draws)
            state = np.where(move[..., None], before, state)
            states.append(state)
        return np.stack(states[::-1], axis=-2)


def _compiled(m: Mathematics, values: Array, read: Array, system: System, p: Parameters) -> Array:
    """Return the log density of one series under JAX, which has a gradient of its own."""
    n, k = len(values), system.transition.shape[-1]
    parts = {
        "loadings": m.broadcast_to(system.loading, (n, k))[:, None],
        "transition": system.transition,
        "steps": system.steps,
        "mean": m.broadcast_to(system.mean, (k,)),
        "spread": system.spread,
        "errors": m.broadcast_to(m.asarray(p["noise"]), (n,))[:, None],
        "readings": values[:, None],
        "read": read[:, None],
        "moves": system.moves if "time" in p else None,
    }
    if "start" in p:
        return m.kalman_log_density(**parts)
    return m.open_kalman_log_density(m, **parts)


def _diagonal(m: Mathematics, scale: Array) -> Array:
    return scale[..., None] * m.eye(scale.shape[-1]) * scale[..., None]


def _moves(m: Mathematics, p: Parameters, rows: int) -> Array:
    """Return whether the state moves on after each row, (..., rows)."""
    if "time" not in p:
        return m.asarray(np.ones(rows, dtype=bool))
    time = m.asarray(p["time"])
    on = time[..., 1:] > time[..., :-1]
    return m.concatenate([on, on[..., :1] == on[..., :1]], axis=-1) if rows > 1 else time == time


def _along(part: Array, rows: int) -> np.ndarray:
    return np.broadcast_to(part, (*part.shape[:-1], rows))


def _by_row(system: System, rows: int) -> tuple[Array, Array, Array]:
    """Return loading, noise and moves with one entry for each row (NumPy)."""
    loading, noise, moves = system.loading, system.noise, system.moves
    return (
        np.broadcast_to(loading, (*loading.shape[:-2], rows, loading.shape[-1])),
        _along(noise, rows),
        _along(moves, rows),
    )


def _normal(generator: np.random.Generator, system: System, copies: tuple[int, ...]) -> np.ndarray:
    """Draw first states before any reading."""
    sds = np.sqrt(np.diagonal(system.spread, axis1=-2, axis2=-1))
    z = generator.standard_normal((*copies, system.transition.shape[-1]))
    return np.asarray(system.mean + sds * z)


def _moved(
    generator: np.random.Generator, system: System, state: np.ndarray, p: Parameters, move: Array
) -> np.ndarray:
    """Draw the states that follow, where they move on."""
    ahead = np.einsum("...ij,...j->...i", system.transition, state)
    ahead = ahead + np.asarray(p["scale"]) * generator.standard_normal(state.shape)
    return np.where(np.asarray(move)[..., None], ahead, state)


def _read_on(
    generator: np.random.Generator,
    system: System,
    state: np.ndarray,
    p: Parameters,
    size: tuple[int, ...],
) -> np.ndarray:
    """Draw readings row by row from a first state."""
    loading, noise, moves = _by_row(system, size[-1])
    values = []
    for row in range(size[-1]):
        reading = np.sum(loading[..., row, :] * state, axis=-1)
        error = generator.standard_normal(size[:-1])
        values.append(reading + np.sqrt(noise[..., row]) * error)
        state = _moved(generator, system, state, p, moves[..., row])
    return np.stack(values, axis=-1) + p.get("location", 0.0)


def _normal_state(
    generator: np.random.Generator, mean: Array, cov: Array, draws: int
) -> np.ndarray:
    """Draw normal vectors whose covariance may be singular, (draws, k)."""
    values, vectors = np.linalg.eigh(0.5 * (cov + np.swapaxes(cov, -1, -2)))
    size = (*np.broadcast_shapes(mean.shape[:-1], (draws,)), mean.shape[-1])
    z = np.sqrt(np.maximum(values, 0.0)) * generator.standard_normal(size)
    return mean + np.einsum("...ij,...j->...i", vectors, z)
