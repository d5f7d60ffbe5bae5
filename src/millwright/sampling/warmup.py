"""The plan of the warm-up: when to adapt the step size alone, and when the metric too."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

__all__ = [
    "LARGEST_DENSE",
    "STRONGLY_CORRELATED",
    "Metric",
    "Window",
    "dense_scale",
    "deviations_of",
    "plan",
    "refined_scale",
    "scale_at",
    "split_first",
    "wants_dense",
    "without_overflow",
]


Metric = Literal["automatic", "diagonal", "dense"]

# A dense metric costs a second compilation, and its own arithmetic at every step.
LARGEST_DENSE = 200
STRONGLY_CORRELATED = 100.0
_DRAWS_A_DIMENSION = 3
_FARTHEST = 1e3
"""Standard deviations from the middle; what is shrunk keeps its digits beside the square."""

without_overflow = np.errstate(over="ignore", invalid="ignore")
"""Of draws that run off to where squares overflow the verdict tells more than a warning."""


@dataclass(frozen=True)
class Window:
    """A stretch of warm-up; at the end of a `metric` window the metric is estimated anew."""

    length: int
    metric: bool


def plan(warmup: int, first_share: float = 0.075) -> tuple[Window, ...]:
    """Divide a warm-up into windows.

    The first find the bulk of the posterior; then windows that double in length estimate
    the metric, each from its own draws; the last 10 % settle the step size.
    """
    if warmup < 20:
        return (Window(warmup, metric=False),) if warmup else ()
    first = max(5, round(first_share * warmup))
    last = max(5, round(0.1 * warmup))
    windows = [Window(first, metric=False)]
    left, length = warmup - first - last, max(10, round(0.025 * warmup))
    while left > 0:
        # A window that would leave too little for the next one takes all.
        length = left if left < 3 * length else length
        windows.append(Window(length, metric=True))
        left, length = left - length, 2 * length
    return (*windows, Window(last, metric=False))


def split_first(windows: tuple[Window, ...], length: int) -> tuple[Window, ...]:
    """Cut the first of several windows in pieces of this length."""
    if len(windows) < 2:
        return windows
    first = windows[0]
    pieces = [replace(first, length=length)] * (first.length // length)
    if first.length % length:
        pieces.append(replace(first, length=first.length % length))
    return (*pieces, *windows[1:])


def refined_scale(n: int, mean: np.ndarray, sd: np.ndarray, before: np.ndarray) -> np.ndarray:
    """Estimate the metric's standard deviations from a window's draws.

    With few draws the change against the scales before is pulled towards the average change of
    all coordinates, in logarithms, so that the result does not depend on units.

    Parameters
    ----------
    n, mean, sd
        Number of draws, their means and standard deviations, shape (dimension,).
    before
        Scales in force so far, shape (dimension,).
    """
    # A coordinate that did not move says nothing, nor one that ran off until its squares
    # overflowed; it follows the others.
    moved = (sd > 1e-13 * np.abs(mean)) & np.isfinite(sd)
    if not moved.any():
        return before
    change = np.zeros_like(before)
    change[moved] = np.log(sd[moved] / before[moved])
    average = change[moved].mean()
    change[~moved] = average
    weight = n / (n + 5.0)
    return before * np.exp(weight * change + (1 - weight) * average)


def _standardised(draws: np.ndarray, sd: np.ndarray) -> np.ndarray:
    """Return draws in units of `sd` around their mean, outliers brought nearer."""
    return np.clip((draws - draws.mean(axis=0)) / sd, -_FARTHEST, _FARTHEST)


def _shrunk_correlation(draws: np.ndarray, sd: np.ndarray) -> np.ndarray:
    """Correlation matrix of draws in units of `sd`, pulled towards no correlation."""
    n, dimension = draws.shape
    z = _standardised(draws, sd)
    # With several draws a dimension even the smallest directions are known well enough.
    weight = n / (n + 5.0 + (0 if n >= _DRAWS_A_DIMENSION * dimension else dimension))
    return weight * (z.T @ z) / n + (1 - weight) * np.eye(dimension)


def wants_dense(draws: np.ndarray, sd: np.ndarray) -> bool:
    """Whether a window's draws are so strongly correlated that a dense metric pays.

    The trajectories of a diagonal metric must lengthen with the square root of the ratio of the
    largest to the smallest eigenvalue of the correlation matrix; where they do not, since most
    directions turn back early, the widest direction is walked along slowly.

    Parameters
    ----------
    draws
        Shape (draws, dimension).
    sd
        Scales of the diagonal metric.
    """
    n, dimension = draws.shape
    # Fewer draws than that show correlations where there are none.
    if dimension == 1 or dimension > LARGEST_DENSE or n < max(80, _DRAWS_A_DIMENSION * dimension):
        return False
    z = _standardised(draws, sd)
    eigenvalues = np.linalg.eigvalsh(z.T @ z / n)
    return bool(eigenvalues[-1] > STRONGLY_CORRELATED * eigenvalues[0])


def deviations_of(scale: np.ndarray) -> np.ndarray:
    """Return the standard deviations of a metric, diagonal or dense."""
    return scale if scale.ndim == 1 else np.sqrt(np.sum(scale**2, axis=1))


def scale_at(factor: np.ndarray) -> np.ndarray:
    """Return the metric of a normal density: its standard deviations, or all where that pays.

    Parameters
    ----------
    factor
        Cholesky factor of the covariance, shape (dimension, dimension).
    """
    sd = deviations_of(factor)
    sizes = np.linalg.svd(factor / sd[:, None], compute_uv=False)
    strong = sizes[0] ** 2 > STRONGLY_CORRELATED * sizes[-1] ** 2
    return factor if strong and len(sd) <= LARGEST_DENSE else sd


def dense_scale(draws: np.ndarray, sd: np.ndarray) -> np.ndarray:
    """Return the Cholesky factor of the covariance of a window's draws.

    Standard deviations are those of the diagonal metric, correlations are shrunk.
    """
    return sd[:, None] * np.linalg.cholesky(_shrunk_correlation(draws, sd))
