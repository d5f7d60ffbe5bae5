"""A Matern process along one axis given noisy readings, at any places, for many draws (NumPy).

By the filter forwards and the smoother of Bryson and Frazier backwards, with covariances as in de
Jong (1989), "Smoothing and interpolation with the state-space model", Journal of the American
Statistical Association 84. Nothing is inverted, and time is linear in the number of rows.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.matern import Along, moves, rate, spread_of

__all__ = [
    "MANY_ROWS",
    "NoisyReadings",
    "Smoothed",
    "draws_at_once",
    "left_out",
    "noisy_readings",
    "sampled",
    "smoothed",
]

MANY_ROWS = 100
"""Above so many rows a process is gone through in order; a matrix does for fewer."""

_NUMBERS = 4_000_000
"""Entries of the states of a block of draws."""

_JITTER = 1e-14
"""Of steps between places next to each other rounding leaves nothing, or less."""


@dataclass(frozen=True, kw_only=True)
class NoisyReadings:
    """Readings of a process, and what is known of it in each draw.

    Attributes
    ----------
    kernel
        `matern32` or `matern52`.
    x
        Places of the readings, (rows,), in any order.
    left
        Readings less their mean, (draws, rows).
    noise
        Sds of their errors, (draws, rows).
    height, length
        Sd and length of the process, (draws,).
    """

    kernel: str
    x: np.ndarray
    left: np.ndarray
    noise: np.ndarray
    height: np.ndarray
    length: np.ndarray

    def some(self, at: slice) -> NoisyReadings:
        """Return some of the draws."""
        return replace(
            self,
            left=self.left[at],
            noise=self.noise[at],
            height=self.height[at],
            length=self.length[at],
        )


def noisy_readings(along: Along, seen: np.ndarray, draws: int) -> NoisyReadings:
    """Return readings of a process along one column, made at its first rows, for each draw."""
    known = len(seen)
    size = (draws, known)
    return NoisyReadings(
        kernel=along.kernel,
        x=along.x[:known],
        left=np.broadcast_to(seen - along.location[..., :known], size),
        noise=np.broadcast_to(along.noise[..., :known], size),
        height=np.broadcast_to(np.abs(along.height), draws),
        length=np.broadcast_to(np.abs(along.length), draws),
    )


@dataclass(frozen=True, kw_only=True)
class Smoothed:
    """The process, or its slope, at places given the readings.

    Attributes
    ----------
    means, variances
        Shape (draws, places).
    covariances
        (draws, places, places) if they were asked for.
    """

    means: np.ndarray
    variances: np.ndarray
    covariances: np.ndarray | None = None


def draws_at_once(kernel: str, rows: int) -> int:
    """Return how many draws to go through at a time, for readings and places together."""
    return max(1, _NUMBERS // (rows * spread_of(kernel).size))


def smoothed(
    given: NoisyReadings, places: np.ndarray, *, slope: bool = False, joint: bool = False
) -> Smoothed:
    """Return the process at places given the readings.

    Parameters
    ----------
    places
        Shape (places,), in any order.
    slope
        Whether its slope is meant.
    joint
        Whether covariances between places are asked for.
    """
    path = _Path(given, places)
    path.forwards()
    path.backwards()
    entry = int(slope)
    scale = rate(given.kernel, given.length)[:, None] if slope else np.ones((1, 1))
    means, variances = path.moments(entry)
    back = np.argsort(path.place_order)
    covariances = None
    if joint:
        covariances = path.covariances(entry)[:, back[:, None], back] * scale[:, None] ** 2
    return Smoothed(
        means=(means * scale)[:, back],
        variances=(variances * scale**2)[:, back],
        covariances=covariances,
    )


def left_out(given: NoisyReadings) -> tuple[np.ndarray, np.ndarray]:
    """Return by how much each reading misses its mean given all others, and their variance.

    Rasmussen and Williams (2006), eq. 5.12. Shape (draws, rows) each, noise included.
    """
    path = _Path(given, np.empty(0))
    path.forwards()
    path.backwards()
    back = np.argsort(path.rows)
    variances = 1 / path.informed.T[:, back]
    return path.pulls.T[:, back] * variances, variances


def sampled(
    given: NoisyReadings, places: np.ndarray, generator: np.random.Generator
) -> tuple[np.ndarray, Smoothed]:
    """Draw the process at places given the readings, (draws, places); also return its moments.

    A process and readings are drawn before any is read, and the process is moved by what the true
    readings say more (Durbin and Koopman 2002, "A simple and efficient simulation smoother for
    state space time series analysis", Biometrika 89).
    """
    path = _Path(given, places)
    drawn = path.drawn(generator)
    at_rows = np.empty_like(given.left)
    seen = path.rows >= 0
    at_rows[:, path.rows[seen]] = drawn[:, seen]
    made = at_rows + given.noise * generator.standard_normal(at_rows.shape)
    more = smoothed(replace(given, left=given.left - made), places)
    back = np.argsort(path.place_order)
    return drawn[:, path.at_places][:, back] + more.means, smoothed(given, places)


class _Path:
    """Rows and places in one order; each step leaves what the later ones need."""

    def __init__(self, given: NoisyReadings, places: np.ndarray) -> None:
        rows = len(given.x)
        every = np.concatenate([given.x, places])
        order = np.argsort(every, kind="stable")
        self.rows = np.where(order < rows, order, -1)
        self.at_places = np.flatnonzero(order >= rows)
        self.place_order = order[self.at_places] - rows
        gaps = np.append(np.diff(every[order]), 0.0)
        far = gaps * rate(given.kernel, given.length)[:, None]
        self.given = given
        self.transitions, steps = moves(on_numpy, given.kernel, far)
        height = given.height[:, None, None]
        self.steps = height[..., None] ** 2 * steps
        self.first = height**2 * spread_of(given.kernel)
        k = self.first.shape[-1]
        draws, count = len(given.height), len(order)
        self.means = np.zeros((count, draws, k))
        self.spreads = np.zeros((count, draws, k, k))
        self.weights = np.zeros((count, draws, k))
        self.pulls = np.zeros((count, draws))
        self.informed = np.zeros((count, draws))
        self.slopes = np.zeros((count, draws, k))
        self.bends = np.zeros((count, draws, k, k))

    def drawn(self, generator: np.random.Generator) -> np.ndarray:
        """Draw the process before any reading, (draws, rows and places) in their order."""
        draws, count, k = self.transitions.shape[:3]
        units = generator.standard_normal((count, draws, k))
        state = (np.linalg.cholesky(self.first) @ units[0][..., None])[..., 0]
        spread = self.first[:, None]
        roots = np.linalg.cholesky(self.steps + _JITTER * spread)
        found = np.empty((draws, count))
        for at in range(count):
            found[:, at] = state[:, 0]
            if at + 1 < count:
                steps = (roots[:, at] @ units[at + 1][..., None])[..., 0]
                state = (self.transitions[:, at] @ state[..., None])[..., 0] + steps
        return found

    def forwards(self) -> None:
        """Go through the filter: states before each reading, and what it says of them."""
        mean, spread = np.zeros_like(self.means[0]), self.first
        noise2, left = self.given.noise**2, self.given.left
        for at, row in enumerate(self.rows):
            self.means[at], self.spreads[at] = mean, spread
            if row >= 0:
                lean = spread[:, :, 0]
                variance = lean[:, 0] + noise2[:, row]
                error = left[:, row] - mean[:, 0]
                weight = lean / variance[:, None]
                self.weights[at], self.informed[at] = weight, 1 / variance
                self.pulls[at] = error / variance
                mean = mean + weight * error[:, None]
                spread = spread - weight[:, :, None] * lean[:, None]
            transition = self.transitions[:, at]
            mean = (transition @ mean[..., None])[..., 0]
            spread = transition @ spread @ transition.swapaxes(1, 2) + self.steps[:, at]
            spread = 0.5 * (spread + spread.swapaxes(1, 2))

    def backwards(self) -> None:
        """Gather what later readings say of each state, those at it included.

        `pulls` and `informed` become entries of K^-1 y and of the diagonal of K^-1, for the
        covariance K of the readings y.
        """
        slope, bend = np.zeros_like(self.slopes[0]), np.zeros_like(self.bends[0])
        for at in range(len(self.rows) - 1, -1, -1):
            transition = self.transitions[:, at]
            slope = (slope[:, None] @ transition)[:, 0]
            bend = transition.swapaxes(1, 2) @ bend @ transition
            if self.rows[at] >= 0:
                # L' B L for L = 1 - weight e1', which is what a reading leaves of an error.
                weight = self.weights[at]
                across = (bend @ weight[..., None])[..., 0]
                self.pulls[at] -= np.sum(weight * slope, axis=1)
                self.informed[at] += np.sum(weight * across, axis=1)
                slope[:, 0] += self.pulls[at]
                bend[:, 0] -= across
                bend[:, :, 0] -= across
                bend[:, 0, 0] += self.informed[at]
            self.slopes[at], self.bends[at] = slope, bend

    def moments(self, entry: int) -> tuple[np.ndarray, np.ndarray]:
        """Return mean and variance of an entry of the state at each place, in order."""
        spreads = self.spreads[self.at_places][:, :, entry]
        means = self.means[self.at_places][:, :, entry]
        means = means + np.sum(spreads * self.slopes[self.at_places], axis=2)
        across = (self.bends[self.at_places] @ spreads[..., None])[..., 0]
        variances = spreads[..., entry] - np.sum(spreads * across, axis=2)
        return means.T, np.maximum(variances, 0.0).T

    def covariances(self, entry: int) -> np.ndarray:
        """Return covariances of an entry of the state between places, in order."""
        draws, k = self.slopes.shape[1:]
        count = len(self.at_places)
        found = np.empty((draws, count, count))
        reach = np.zeros((draws, count, k))
        before = 0
        for number, at in enumerate(self.at_places.tolist()):
            if number:
                reach[:, :number] = self._carried(reach[:, :number], before, at)
            before = at
            spread = self.spreads[at]
            reach[:, number] = spread[:, entry]
            left = np.eye(k)[entry] - (self.bends[at] @ spread[:, :, entry, None])[..., 0]
            here = (reach[:, : number + 1] @ left[..., None])[..., 0]
            found[:, : number + 1, number] = found[:, number, : number + 1] = here
        return found

    def _carried(self, reach: np.ndarray, first: int, last: int) -> np.ndarray:
        """Return covariances with errors at one place as they are with those at the next."""
        for at in range(first, last):
            if self.rows[at] >= 0:
                reach = reach - reach[..., :1] * self.weights[at][:, None]
            reach = reach @ self.transitions[:, at].swapaxes(1, 2)
        return reach
