"""Whether the walkers of an ensemble have left where they began: when a warm-up may end.

The rule looks at the last half of the warm-up, at the mean and the spread of all walkers in each
coordinate and at their log densities. They have settled when that half holds at least 20
autocorrelation times of each of these numbers (Sokal 1997, section 3: a start is forgotten after
about 20), and its own two halves agree within 3.5 standard errors (as Geweke 1992 compares parts
of a chain).
"""

from __future__ import annotations

import numpy as np

from millwright.diagnostics.autocorrelation import integrated_time

__all__ = ["CHECKED_EVERY", "settled", "summary"]

CHECKED_EVERY = 20
_FEWEST = 60
_TIMES = 20.0
_APART = 3.5
_QUANTILES = (0.0, 0.5)


def summary(positions: np.ndarray, values: np.ndarray) -> np.ndarray:
    """Return what is followed of walkers at `positions` (walkers, dimension)."""
    return np.concatenate(
        [
            np.quantile(values, _QUANTILES),
            [values.mean()],
            positions.mean(axis=0),
            np.log(positions.std(axis=0)),
        ]
    )


def settled(history: np.ndarray) -> bool:
    """Return whether a warm-up whose draws left these summaries, shape (draws, numbers), may end.

    What does not vary at all has not settled: a walker that is stuck keeps the lowest density.
    """
    if len(history) < _FEWEST:
        return False
    late = history[len(history) // 2 :]
    half = len(late) // 2
    with np.errstate(all="ignore"):
        times = np.maximum(integrated_time(late[None]), 1.0)
        errors = np.sqrt(2.0 * late.var(axis=0) * times / half)
        apart = np.abs(late[:half].mean(axis=0) - late[half:].mean(axis=0)) / errors
        return bool((len(late) >= _TIMES * times).all() and (apart <= _APART).all())
