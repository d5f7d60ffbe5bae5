"""How a series that is observed itself goes on after its last value.

Given the unknowns, what comes is the sum of the steps to come, each carried on by those after it:
normal, with a mean and a variance that are exact.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np

from millwright.distributions.family import Distribution, Parameters
from millwright.distributions.mathematics import Array
from millwright.distributions.processes import Autoregressive, WalkProcess
from millwright.distributions.state_space import Ahead

__all__ = ["ahead", "goes_on"]

Continued = Callable[[np.ndarray], np.ndarray]
"""The values to come for standard steps, both (draws, steps)."""


def goes_on(family: Distribution, p: Parameters) -> bool:
    """Whether a series can go on: a walk with normal steps, or an autoregression."""
    walk = isinstance(family, WalkProcess) and "df" not in p
    return walk or isinstance(family, Autoregressive)


def ahead(
    family: Distribution,
    generator: np.random.Generator,
    x: Array,
    p: Parameters,
    steps: int,
    draws: int,
) -> Ahead:
    """Go on from the last value (NumPy).

    Parameters
    ----------
    x
        Values, shape (n,).
    p
        Arguments for each draw; what differs from row to row has n + steps entries.
    """
    make = _walked if isinstance(family, WalkProcess) else _autoregressed
    continued: Continued = partial(make, np.asarray(x, dtype=float), p)
    size = (draws, steps)
    means = continued(np.zeros(size))
    variances = np.zeros(size)
    for at in range(steps):
        one = np.zeros(size)
        one[:, at] = 1.0
        variances += (continued(one) - means) ** 2
    return Ahead(
        paths=continued(generator.standard_normal(size)),
        means=means,
        variances=variances,
        noises=np.zeros(size),
    )


def _walked(x: np.ndarray, p: Parameters, u: np.ndarray) -> np.ndarray:
    steps = _to_come(p["scale"], len(x), u) * u
    if "drift" in p:
        steps = steps + np.asarray(p["drift"])[..., None]
    return np.asarray(x[-1] + np.cumsum(steps, axis=-1))


def _autoregressed(x: np.ndarray, p: Parameters, u: np.ndarray) -> np.ndarray:
    known, size = len(x), u.shape[-1]
    coefficients = np.asarray(p["coefficients"])
    order = coefficients.shape[-1]
    start, scale = (np.asarray(p[name]) for name in ("start_scale", "scale"))
    centre = np.broadcast_to(p["location"], (len(u), known + size))
    rest = list(np.moveaxis(x - centre[:, :known], -1, 0)[-order:])
    for at in range(size):
        if known + at < order:
            rest.append(start * u[:, at])
            continue
        told = sum(coefficients[..., k] * rest[-1 - k] for k in range(order))
        rest.append(told + scale * u[:, at])
    return np.asarray(np.stack(rest[-size:], axis=-1) + centre[:, known:])


def _to_come(value: Array, known: int, u: np.ndarray) -> np.ndarray:
    """Return what belongs to the steps to come of an argument that may differ by row."""
    whole = (*np.shape(value)[:-1], known + u.shape[-1])
    return np.asarray(np.broadcast_to(value, whole)[..., known:])
