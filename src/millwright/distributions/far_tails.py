"""Quantiles in tails so far out that their probabilities are smaller than any number."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from millwright.distributions.mathematics import Array

__all__ = ["tail_quantile"]

_STEPS = 30


def tail_quantile(
    log_tail: Callable[[np.ndarray], Array],
    log_density: Callable[[np.ndarray], Array],
    start: Array,
    log_target: Array,
    sign: int,
) -> np.ndarray:
    """Return x where the log probability beyond x is `log_target`, by Newton's steps.

    Beyond a bound the logarithm of a tail is nearly straight, so that they settle after a few.

    Parameters
    ----------
    log_tail, log_density
        Log probability beyond x, and log density at x, of arrays.
    start, log_target
        First x, and what is to be reached, of one shape after broadcasting.
    sign
        1 for the probability above x, -1 for that below.
    """
    x, log_target = (np.array(one) for one in np.broadcast_arrays(start, log_target))
    with np.errstate(all="ignore"):
        for _ in range(_STEPS):
            left = np.asarray(log_tail(x))
            step = sign * (left - log_target) / np.exp(np.asarray(log_density(x)) - left)
            x = np.where(np.isfinite(step), x + step, x)
            if not np.any(np.abs(step) > 1e-12 * np.abs(x)):
                break
    return x
