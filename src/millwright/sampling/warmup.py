"""The plan of the warm-up: when to adapt the step size alone, and when the metric too."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

__all__ = ["Window", "plan", "refined_scale"]


@dataclass(frozen=True)
class Window:
    """A stretch of warm-up; at the end of a `metric` window the metric is estimated anew."""

    length: int
    metric: bool


def plan(warmup: int) -> tuple[Window, ...]:
    """Divide a warm-up into windows.

    The first 7.5 % find the bulk of the posterior; then windows that double in length estimate
    the metric, each from its own draws; the last 10 % settle the step size.
    """
    if warmup < 20:
        return (Window(warmup, metric=False),) if warmup else ()
    first = max(5, round(0.075 * warmup))
    last = max(5, round(0.1 * warmup))
    windows = [Window(first, metric=False)]
    left, length = warmup - first - last, max(10, round(0.025 * warmup))
    while left > 0:
        # A window that would leave too little for the next one takes all.
        length = left if left < 3 * length else length
        windows.append(Window(length, metric=True))
        left, length = left - length, 2 * length
    return (*windows, Window(last, metric=False))


def refined_scale(draws: np.ndarray, before: np.ndarray) -> np.ndarray:
    """Estimate the metric's standard deviations from a window's draws.

    With few draws the change against the scales before is pulled towards the average change of
    all coordinates, in logarithms, so that the result does not depend on units.

    Parameters
    ----------
    draws
        Shape (draws, dimension).
    before
        Scales in force so far, shape (dimension,).
    """
    n = len(draws)
    sd = draws.std(axis=0, ddof=1) if n > 1 else np.zeros_like(before)
    # A coordinate that did not move says nothing; it follows the others.
    moved = sd > 1e-13 * np.abs(draws).max(axis=0)
    if not moved.any():
        return before
    change = np.zeros_like(before)
    change[moved] = np.log(sd[moved] / before[moved])
    average = change[moved].mean()
    change[~moved] = average
    weight = n / (n + 5.0)
    return before * np.exp(weight * change + (1 - weight) * average)
