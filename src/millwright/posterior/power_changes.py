"""How a quantity answers to the power of a prior or of the likelihood."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

__all__ = ["POWERS", "Change", "change_of_fits", "change_of_weights"]

POWERS = (0.8, 1.25)
_DOUBLINGS = float(np.log2(POWERS[1] / POWERS[0]))


@dataclass(frozen=True, kw_only=True)
class Change:
    """How one quantity answers to the power of one prior, or of the likelihood.

    Attributes
    ----------
    mean
        Change of the posterior mean, in posterior sds, for each doubling of the power, read off
        powers of 0.8 and 1.25.
    sd
        Factor by which the sd changes, likewise.
    low, high
        Change of the ends of the central 95 % interval, likewise, in posterior sds.
    distance
        Distance between the cumulative distributions for each doubling; 0.05 is notable.
    """

    mean: float
    sd: float
    low: float
    high: float
    distance: float


def change_of_weights(value: np.ndarray, weights: Sequence[np.ndarray]) -> Change:
    """Return the change from draws, shape (n,), and their weights under the two powers."""
    order = np.argsort(value)
    x = value[order]
    plain = np.full(len(x), 1 / len(x))
    some = [weight[order] for weight in weights]
    distances = [_distance_both_ways(x, plain, weight) for weight in some]
    return _change([_numbers(x, weight) for weight in some], float(x.std()), distances)


def change_of_fits(value: np.ndarray, fits: Sequence[np.ndarray]) -> Change:
    """Return the change from draws, shape (chains, n), and those of fits under the two powers.

    Draws of two fits are apart by chance too: by about as much as halves of one fit are, which is
    taken off.
    """
    base = value.ravel()
    half = len(value) // 2 if len(value) > 1 else 0
    halves = (value[:half], value[half:]) if half else np.array_split(base, 2)
    chance = _distance_of_samples(*(np.ravel(one) for one in halves)) ** 2 / 2
    numbers, distances = [], []
    for fit in fits:
        other = np.sort(fit.ravel())
        numbers.append(_numbers(other, np.full(len(other), 1 / len(other))))
        distances.append(np.sqrt(max(_distance_of_samples(base, other) ** 2 - chance, 0.0)))
    return _change(numbers, float(base.std()), distances)


def _numbers(x: np.ndarray, weights: np.ndarray) -> tuple[float, float, float, float]:
    """Return mean, sd and the ends of the central 95 % interval of sorted, weighted draws."""
    mean = float(weights @ x)
    below = np.cumsum(weights) - 0.5 * weights
    low, high = (float(np.interp(q, below, x)) for q in (0.025, 0.975))
    return mean, float(np.sqrt(weights @ (x - mean) ** 2)), low, high


def _change(
    numbers: Sequence[tuple[float, float, float, float]], sd: float, distances: Sequence[float]
) -> Change:
    lower, upper = map(np.array, numbers)
    mean, _, low, high = (upper - lower) / sd / _DOUBLINGS
    return Change(
        mean=float(mean),
        sd=float((upper[1] / lower[1]) ** (1 / _DOUBLINGS)),
        low=float(low),
        high=float(high),
        distance=float(np.sum(distances) / _DOUBLINGS),
    )


def _distance_of_samples(one: np.ndarray, other: np.ndarray) -> float:
    x = np.concatenate([one, other])
    first = np.concatenate([np.full(len(one), 1 / len(one)), np.zeros(len(other))])
    second = np.concatenate([np.zeros(len(one)), np.full(len(other), 1 / len(other))])
    order = np.argsort(x)
    return _distance_both_ways(x[order], first[order], second[order])


def _distance_both_ways(x: np.ndarray, p: np.ndarray, q: np.ndarray) -> float:
    return max(_distance(x, p, q), _distance(-x[::-1], p[::-1], q[::-1]))


def _distance(x: np.ndarray, p: np.ndarray, q: np.ndarray) -> float:
    """Return the square root of the cumulative Jensen-Shannon divergence of weighted samples.

    Normalised by its largest value, so that it does not depend on units.
    """
    widths = np.diff(x)
    first, second = np.cumsum(p)[:-1], np.cumsum(q)[:-1]
    middle = 0.5 * (first + second)
    with np.errstate(divide="ignore", invalid="ignore"):
        a = np.where(first > 0, first * np.log2(first / middle), 0.0)
        b = np.where(second > 0, second * np.log2(second / middle), 0.0)
    bound = float(widths @ (first + second))
    divergence = float(widths @ (a + b))
    return float(np.sqrt(max(divergence, 0.0) / bound)) if bound > 0 else 0.0
