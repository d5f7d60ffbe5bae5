"""Exact algebra of a smooth function of one column, given height, length, level and noise.

Rasmussen and Williams (2006), chapter 2 for the function given the readings, section 9.4 for its
derivative: covariances of f'(a) with f(b) and of f'(a) with f'(b) are derivatives of the kernel.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
from scipy import linalg
from scipy.special import ndtr

from millwright.draws.labelled_draws import Draws

__all__ = [
    "KERNELS",
    "Hyperparameters",
    "Readings",
    "function_draws",
    "gain",
    "hyperparameters",
    "prior_draws",
    "rising",
]

_JITTER = 1e-9


@dataclass(frozen=True)
class _Kernel:
    """A stationary kernel of height 1 as a function of d = a - b, with its derivatives.

    Attributes
    ----------
    value
        k(d).
    slope
        dk/da, the covariance of f'(a) with f(b).
    both
        d2k/(da db), that of f'(a) with f'(b).
    """

    value: Callable[[np.ndarray, float], np.ndarray]
    slope: Callable[[np.ndarray, float], np.ndarray]
    both: Callable[[np.ndarray, float], np.ndarray]


def _gauss(d: np.ndarray, length: float) -> np.ndarray:
    return np.exp(-0.5 * (d / length) ** 2)


def _fading(root: float, d: np.ndarray, length: float) -> tuple[float, np.ndarray, np.ndarray]:
    rate = np.sqrt(root) / length
    r = rate * np.abs(d)
    return rate, r, np.exp(-r)


def _value32(d: np.ndarray, length: float) -> np.ndarray:
    _, r, fade = _fading(3.0, d, length)
    return (1 + r) * fade


def _slope32(d: np.ndarray, length: float) -> np.ndarray:
    rate, _, fade = _fading(3.0, d, length)
    return -(rate**2) * d * fade


def _both32(d: np.ndarray, length: float) -> np.ndarray:
    rate, r, fade = _fading(3.0, d, length)
    return rate**2 * (1 - r) * fade


def _value52(d: np.ndarray, length: float) -> np.ndarray:
    _, r, fade = _fading(5.0, d, length)
    return (1 + r + r**2 / 3) * fade


def _slope52(d: np.ndarray, length: float) -> np.ndarray:
    rate, r, fade = _fading(5.0, d, length)
    return -(rate**2) / 3 * d * (1 + r) * fade


def _both52(d: np.ndarray, length: float) -> np.ndarray:
    rate, r, fade = _fading(5.0, d, length)
    return rate**2 / 3 * (1 + r - r**2) * fade


KERNELS = {
    "squared_exponential": _Kernel(
        _gauss,
        lambda d, length: -d / length**2 * _gauss(d, length),
        lambda d, length: (1 - (d / length) ** 2) / length**2 * _gauss(d, length),
    ),
    "matern32": _Kernel(_value32, _slope32, _both32),
    "matern52": _Kernel(_value52, _slope52, _both52),
}
"""Kernels whose functions have a slope."""


@dataclass(frozen=True, kw_only=True)
class Hyperparameters:
    """Draws of what is unknown of the function, each of shape (draws,)."""

    level: np.ndarray
    height: np.ndarray
    length: np.ndarray
    noise: np.ndarray

    def __len__(self) -> int:
        return len(self.level)

    def at(self, draw: int) -> tuple[float, float, float, float]:
        """Return level, height, length and noise of one draw."""
        return tuple(  # type: ignore[return-value]
            float(one[draw]) for one in (self.level, self.height, self.length, self.noise)
        )


def hyperparameters(draws: Draws, keep: slice = slice(None)) -> Hyperparameters:
    """Return draws of what is unknown; what is held, or a noise that is known, is the same in all.

    A noise that stands in no prior counts as 1: errors are then those of the readings.
    """

    def of(name: str) -> np.ndarray:
        known = name in draws.binding.program.by_name
        values = draws.get(name) if known else np.ones(())
        flat: np.ndarray = np.broadcast_to(values, draws.shape).reshape(-1)[keep]
        return flat

    return Hyperparameters(
        level=of("level"), height=of("height"), length=of("length"), noise=of("noise")
    )


@dataclass(frozen=True, kw_only=True)
class Readings:
    """Places, what was read there, and how large the error of each is in units of the noise."""

    kernel: str
    x: np.ndarray
    y: np.ndarray
    errors: np.ndarray

    def solved(
        self, level: float, height: float, length: float, noise: float
    ) -> tuple[np.ndarray, np.ndarray]:
        """Return the Cholesky factor of the readings' covariance, and K^-1 (y - level)."""
        kernel = KERNELS[self.kernel]
        apart = self.x[:, None] - self.x[None, :]
        whole = height**2 * kernel.value(apart, length) + np.diag((noise * self.errors) ** 2)
        factor = linalg.cholesky(whole, lower=True)
        return factor, linalg.cho_solve((factor, True), self.y - level)


def function_draws(
    readings: Readings,
    known: Hyperparameters,
    places: np.ndarray,
    generator: np.random.Generator,
    slope: bool = False,
) -> np.ndarray:
    """Draw the function, or its slope, at places given the readings; shape (draws, places)."""
    found = np.empty((len(known), len(places)))
    for draw, (mean, left, own) in enumerate(_conditional(readings, known, places, slope)):
        found[draw] = mean + _drawn(left, own, generator)
    return found


def rising(readings: Readings, known: Hyperparameters, places: np.ndarray) -> np.ndarray:
    """Return the probability that the function rises at each place.

    The mean over the draws of what is unknown of the normal probability that each gives.
    """
    total = np.zeros(len(places))
    for mean, left, own in _conditional(readings, known, places, slope=True):
        total += ndtr(mean / np.sqrt(np.maximum(np.diag(left), _JITTER * own)))
    found: np.ndarray = total / len(known)
    return found


def _conditional(
    readings: Readings, known: Hyperparameters, places: np.ndarray, slope: bool
) -> Iterator[tuple[np.ndarray, np.ndarray, np.ndarray]]:
    """Yield mean and covariance given the readings, and the variances before, of each draw."""
    kernel = KERNELS[readings.kernel]
    across = places[:, None] - readings.x[None, :]
    among = places[:, None] - places[None, :]
    for draw in range(len(known)):
        level, height, length, noise = known.at(draw)
        factor, weights = readings.solved(level, height, length, noise)
        tie = height**2 * (kernel.slope if slope else kernel.value)(across, length)
        own = height**2 * (kernel.both if slope else kernel.value)(among, length)
        half = linalg.solve_triangular(factor, tie.T, lower=True)
        yield tie @ weights + (0.0 if slope else level), own - half.T @ half, np.diag(own)


def prior_draws(
    kernel: str, known: Hyperparameters, places: np.ndarray, generator: np.random.Generator
) -> np.ndarray:
    """Draw functions before any reading; shape (draws, places)."""
    among = places[:, None] - places[None, :]
    found = np.empty((len(known), len(places)))
    for draw in range(len(known)):
        level, height, length, _ = known.at(draw)
        own = height**2 * KERNELS[kernel].value(among, length)
        found[draw] = level + _drawn(own, np.diag(own), generator)
    return found


def _drawn(covariance: np.ndarray, size: np.ndarray, generator: np.random.Generator) -> np.ndarray:
    """Draw a centred normal vector; eigenvalues bear a matrix that is all but singular."""
    sizes, ways = linalg.eigh((covariance + covariance.T) / 2)
    sizes = np.maximum(sizes, 0.0) + _JITTER * float(size.mean())
    drawn: np.ndarray = ways @ (np.sqrt(sizes) * generator.standard_normal(len(sizes)))
    return drawn


def gain(
    readings: Readings,
    known: Hyperparameters,
    candidates: np.ndarray,
    places: np.ndarray,
    error: float,
) -> np.ndarray:
    """Return by how much a reading at each candidate lowers the variance, averaged over places.

    The active learning criterion of Cohn (1996): for jointly normal values the variance at a
    place falls by c^2 / (v + noise^2), whatever is read. Averaged over the draws too, and divided
    by the variance now.
    """
    kernel = KERNELS[readings.kernel]
    every = np.concatenate([candidates, places])
    across = every[:, None] - readings.x[None, :]
    among = every[:, None] - every[None, :]
    count = len(candidates)
    fallen, now = np.zeros(count), 0.0
    for draw in range(len(known)):
        level, height, length, noise = known.at(draw)
        factor, _ = readings.solved(level, height, length, noise)
        tie = height**2 * kernel.value(across, length)
        half = linalg.solve_triangular(factor, tie.T, lower=True)
        left = height**2 * kernel.value(among, length) - half.T @ half
        own = np.maximum(np.diag(left)[:count], 0.0) + (noise * error) ** 2
        fallen += np.mean(left[:count, count:] ** 2, axis=1) / own
        now += float(np.mean(np.diag(left)[count:]))
    return fallen / now
