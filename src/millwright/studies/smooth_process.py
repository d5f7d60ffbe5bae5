"""Exact algebra of a smooth function of columns, given height, lengths, level and noise.

Rasmussen and Williams (2006), chapter 2 for the function given the readings, section 9.4 for its
derivative: covariances of f'(a) with f(b) and of f'(a) with f'(b) are derivatives of the kernel.
Of several columns the kernel is the product of one for each. Places are of shape (places,) or
(places, columns).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
from scipy.special import ndtr

from millwright.cores import one_thread
from millwright.distributions.matern import MATERN
from millwright.draws.labelled_draws import Draws
from millwright.draws.matern_moments import MANY_ROWS, NoisyReadings, draws_at_once, smoothed

__all__ = [
    "KERNELS",
    "Hyperparameters",
    "Readings",
    "function_draws",
    "gain",
    "gain_of_draws",
    "hyperparameters",
    "prior_draws",
    "rising",
]

_JITTER = 1e-9
# Entries of the matrices of a block of draws.
_NUMBERS = 1_000_000
# What the distribution of a function that is not summed out adds to its diagonal.
_OF_A_FUNCTION = 1e-8


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

    value: Callable[[np.ndarray, np.ndarray], np.ndarray]
    slope: Callable[[np.ndarray, np.ndarray], np.ndarray]
    both: Callable[[np.ndarray, np.ndarray], np.ndarray]


def _gauss(d: np.ndarray, length: np.ndarray) -> np.ndarray:
    return np.exp(-0.5 * (d / length) ** 2)


def _fading(
    root: float, d: np.ndarray, length: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    rate = np.sqrt(root) / length
    r = rate * np.abs(d)
    return rate, r, np.exp(-r)


def _value32(d: np.ndarray, length: np.ndarray) -> np.ndarray:
    _, r, fade = _fading(3.0, d, length)
    return (1 + r) * fade


def _slope32(d: np.ndarray, length: np.ndarray) -> np.ndarray:
    rate, _, fade = _fading(3.0, d, length)
    return -(rate**2) * d * fade


def _both32(d: np.ndarray, length: np.ndarray) -> np.ndarray:
    rate, r, fade = _fading(3.0, d, length)
    return rate**2 * (1 - r) * fade


def _value52(d: np.ndarray, length: np.ndarray) -> np.ndarray:
    _, r, fade = _fading(5.0, d, length)
    return (1 + r + r**2 / 3) * fade


def _slope52(d: np.ndarray, length: np.ndarray) -> np.ndarray:
    rate, r, fade = _fading(5.0, d, length)
    return -(rate**2) / 3 * d * (1 + r) * fade


def _both52(d: np.ndarray, length: np.ndarray) -> np.ndarray:
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


def covariance(
    name: str,
    a: np.ndarray,
    b: np.ndarray,
    lengths: np.ndarray,
    along: int | None = None,
    both: bool = False,
) -> np.ndarray:
    """Return covariances of a function of height 1 at places a and b, shape (draws, a, b).

    Parameters
    ----------
    lengths
        One for each draw and column, (draws, columns).
    along
        The column along which a slope is meant at a; by default the function itself.
    both
        Whether the slope is meant at b too.
    """
    kernel = KERNELS[name]
    a, b = a.reshape(len(a), -1), b.reshape(len(b), -1)
    found = np.ones((len(lengths), len(a), len(b)))
    for column in range(a.shape[1]):
        own = kernel.value
        if column == along:
            own = kernel.both if both else kernel.slope
        apart = a[:, None, column] - b[None, :, column]
        found *= own(apart, lengths[:, column, None, None])
    return found


@dataclass(frozen=True, kw_only=True)
class Hyperparameters:
    """Draws of what is unknown of the function.

    Attributes
    ----------
    level, height, noise
        Shape (draws,).
    length
        Shape (draws,), or (draws, columns).
    """

    level: np.ndarray
    height: np.ndarray
    length: np.ndarray
    noise: np.ndarray

    def __len__(self) -> int:
        return len(self.level)

    def blocks(self, size: int) -> Iterator[tuple[slice, Hyperparameters]]:
        """Yield so many draws at a time, with one length for each column."""
        lengths = self.length.reshape(len(self), -1)
        for first in range(0, len(self), size):
            at = slice(first, first + size)
            yield (
                at,
                Hyperparameters(
                    level=self.level[at],
                    height=self.height[at],
                    length=lengths[at],
                    noise=self.noise[at],
                ),
            )


def hyperparameters(
    draws: Draws, keep: slice = slice(None), lengths: tuple[str, ...] = ("length",)
) -> Hyperparameters:
    """Return draws of what is unknown; what is held, or a noise that is known, is the same in all.

    A noise that stands in no prior counts as 1: errors are then those of the readings.
    """

    def of(name: str) -> np.ndarray:
        known = name in draws.binding.program.by_name
        values = draws.get(name) if known else np.ones(())
        flat: np.ndarray = np.broadcast_to(values, draws.shape).reshape(-1)[keep]
        return flat

    return Hyperparameters(
        level=of("level"),
        height=of("height"),
        length=np.stack([of(name) for name in lengths], axis=-1),
        noise=of("noise"),
    )


@dataclass(frozen=True, kw_only=True)
class Readings:
    """Places, what was read there, and how large the error of each is in units of the noise.

    Attributes
    ----------
    x
        Shape (readings,), or (readings, columns).
    y
        Shape (readings,); of a function that is not summed out its values in each draw, shape
        (draws, places), which have no errors.
    """

    kernel: str
    x: np.ndarray
    y: np.ndarray
    errors: np.ndarray

    @property
    def in_order(self) -> bool:
        """Whether the readings are better gone through one after the other than as a matrix."""
        alone = self.x.ndim == 1 or self.x.shape[1] == 1
        many = len(self.x) > MANY_ROWS and self.y.ndim == 1
        return alone and many and self.kernel in MATERN

    def solved(self, known: Hyperparameters, at: slice) -> tuple[np.ndarray, np.ndarray]:
        """Return inverses of Cholesky factors of the readings' covariance, and K^-1 (y - level).

        Of a block of draws: shapes (draws, readings, readings) and (draws, readings).
        """
        variance = known.height[:, None, None] ** 2
        own = variance * covariance(self.kernel, self.x, self.x, known.length)
        if self.y.ndim == 2:
            own += _OF_A_FUNCTION * variance * np.eye(own.shape[-1])
            left = self.y[at] - known.level[:, None]
        else:
            sizes = (known.noise[:, None] * self.errors) ** 2
            own += sizes[:, :, None] * np.eye(own.shape[-1])
            left = self.y - known.level[:, None]
        inverse = np.linalg.inv(np.linalg.cholesky(own))
        half = inverse @ left[..., None]
        return inverse, (inverse.swapaxes(1, 2) @ half)[..., 0]


@one_thread
def function_draws(
    readings: Readings,
    known: Hyperparameters,
    places: np.ndarray,
    generator: np.random.Generator,
    along: int | None = None,
) -> np.ndarray:
    """Draw the function at places given the readings, or its slope along a column.

    Returns
    -------
    Shape (draws, places).
    """
    found = [
        mean + _drawn(left, own, generator)
        for mean, left, own, _ in _conditional(readings, known, places, along)
    ]
    return np.concatenate(found)


@one_thread
def rising(
    readings: Readings, known: Hyperparameters, places: np.ndarray, along: int = 0
) -> np.ndarray:
    """Return the probability that the function rises along a column at each place.

    The mean over the draws of what is unknown of the normal probability that each gives.
    """
    total = np.zeros(len(places))
    for mean, left, own, _ in _conditional(readings, known, places, along):
        variances = np.maximum(_diagonal(left), _JITTER * own)
        total += ndtr(mean / np.sqrt(variances)).sum(axis=0)
    found: np.ndarray = total / len(known)
    return found


def _diagonal(matrices: np.ndarray) -> np.ndarray:
    return np.diagonal(matrices, axis1=1, axis2=2)


def _conditional(
    readings: Readings, known: Hyperparameters, places: np.ndarray, along: int | None
) -> Iterator[tuple[np.ndarray, np.ndarray, np.ndarray, Hyperparameters]]:
    """Yield mean and covariance given the readings, and the variances before, of blocks of draws.

    Shapes (draws, places), (draws, places, places) and (draws, places); and the block.
    """
    if readings.in_order:
        yield from _along_one_axis(readings, known, places, along)
        return
    size = max(1, _NUMBERS // max(len(places), len(readings.x)) ** 2)
    for at, block in known.blocks(size):
        inverse, weights = readings.solved(block, at)
        variance = block.height[:, None, None] ** 2
        tie = variance * covariance(readings.kernel, places, readings.x, block.length, along)
        own = variance * covariance(
            readings.kernel, places, places, block.length, along, both=True
        )
        half = tie @ inverse.swapaxes(1, 2)
        start = block.level[:, None] if along is None else 0.0
        mean = (tie @ weights[..., None])[..., 0] + start
        yield mean, own - half @ half.swapaxes(1, 2), _diagonal(own), block


def _along_one_axis(
    readings: Readings, known: Hyperparameters, places: np.ndarray, along: int | None
) -> Iterator[tuple[np.ndarray, np.ndarray, np.ndarray, Hyperparameters]]:
    """Yield the same of rough kernels in time linear in the number of readings."""
    places = places.reshape(-1)
    for _, block in known.blocks(draws_at_once(readings.kernel, len(readings.x) + len(places))):
        given = NoisyReadings(
            kernel=readings.kernel,
            x=readings.x.reshape(-1),
            left=readings.y - block.level[:, None],
            noise=block.noise[:, None] * readings.errors,
            height=block.height,
            length=block.length[:, 0],
        )
        found = smoothed(given, places, slope=along is not None, joint=True)
        assert found.covariances is not None
        zero = np.zeros(1)
        one = covariance(readings.kernel, zero, zero, block.length, along, both=True)[:, 0]
        own = np.broadcast_to(block.height[:, None] ** 2 * one, found.means.shape)
        start = block.level[:, None] if along is None else 0.0
        yield found.means + start, found.covariances, own, block


@one_thread
def prior_draws(
    kernel: str, known: Hyperparameters, places: np.ndarray, generator: np.random.Generator
) -> np.ndarray:
    """Draw functions before any reading; shape (draws, places)."""
    found = []
    for _, block in known.blocks(max(1, _NUMBERS // len(places) ** 2)):
        own = block.height[:, None, None] ** 2 * covariance(kernel, places, places, block.length)
        found.append(block.level[:, None] + _drawn(own, _diagonal(own), generator))
    return np.concatenate(found)


def _drawn(covariance: np.ndarray, size: np.ndarray, generator: np.random.Generator) -> np.ndarray:
    """Draw centred normal vectors; eigenvalues bear matrices that are all but singular."""
    units = generator.standard_normal(covariance.shape[:2])
    least = _JITTER * size.mean(axis=1)[:, None, None]
    try:
        root = np.linalg.cholesky(covariance + least * np.eye(covariance.shape[-1]))
    except np.linalg.LinAlgError:
        # Many times slower, and for what rounding left below 0.
        sizes, ways = np.linalg.eigh((covariance + covariance.swapaxes(1, 2)) / 2)
        root = ways * np.sqrt(np.maximum(sizes[:, None, :], 0.0) + least)
    drawn: np.ndarray = (root @ units[..., None])[..., 0]
    return drawn


@one_thread
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
    every = np.concatenate([candidates, places])
    count = len(candidates)
    fallen, now = np.zeros(count), 0.0
    for _, left, _, block in _conditional(readings, known, every, None):
        variances = _diagonal(left)
        noise = (block.noise[:, None] * error) ** 2
        own = np.maximum(variances[:, :count], 0.0) + noise
        fallen += (np.mean(left[:, :count, count:] ** 2, axis=2) / own).sum(axis=0)
        now += float(np.mean(variances[:, count:], axis=1).sum())
    return fallen / now


@one_thread
def gain_of_draws(
    at_candidates: np.ndarray, at_places: np.ndarray, told: np.ndarray
) -> np.ndarray:
    """Return the same from draws of a function that readings of other families rest on.

    By the normal approximation: a reading counts as one of the function with the error that its
    mean information has.

    Parameters
    ----------
    at_candidates, at_places
        Draws of the function, (draws, candidates) and (draws, places).
    told
        Information of a reading at each candidate, (candidates,).
    """
    away = at_candidates - at_candidates.mean(axis=0)
    other = at_places - at_places.mean(axis=0)
    tie = away.T @ other / len(away)
    own = np.mean(away**2, axis=0) + 1 / told
    fallen = np.mean(tie**2, axis=1) / own
    found: np.ndarray = fallen / float(np.mean(other**2))
    return found
