"""The highest point of a target, and the curvature there."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from millwright.errors import StartError
from millwright.sampling.compiling import compiled, on_device
from millwright.sampling.slope import value_and_gradient
from millwright.sampling.start_points import pulled_in
from millwright.sampling.streams import Stream, generator_of
from millwright.sampling.target import TargetDensity

__all__ = [
    "Climb",
    "Peak",
    "climb",
    "find_peak",
    "newton_decrement",
    "Slopes",
]


@dataclass(frozen=True, kw_only=True)
class Peak:
    """A maximum of a target.

    Attributes
    ----------
    position
        Unconstrained coordinates, shape (dimension,).
    log_density
        Value there.
    hessian
        Second derivatives there, shape (dimension, dimension).
    agreeing, starts
        How many of how many starts ended at this value.
    others
        Where the other starts ended: position and log density, the highest first.
    settled
        Whether the gradient is zero there, to the accuracy that the scale allows.
    """

    position: np.ndarray
    log_density: float
    hessian: np.ndarray
    agreeing: int
    starts: int
    settled: bool
    others: tuple[tuple[np.ndarray, float], ...] = ()


def find_peak(target: TargetDensity, seed: int, starts: int = 4) -> Peak:
    """Climb from several starting points by quasi-Newton steps and finish with Newton's.

    Raises
    ------
    StartError
        If the density is finite at no starting point.
    """
    curvature_of = compiled(_hessian, target.key, _example(target))
    arguments = on_device(target.arguments)
    climbed = climb(target, seed, starts)

    def curvature(position: np.ndarray) -> np.ndarray:
        return np.asarray(curvature_of(position, arguments))

    downhill = _downhill(target)
    position = _polished(climbed.position, downhill, curvature)
    value, gradient = downhill(position)
    hessian = curvature(position)
    agreeing = sum(end < value + 1e-3 for end in climbed.ends)
    settled = bool(newton_decrement(gradient, hessian) < 1e-6)
    others = sorted(
        (
            (place, -end)
            for place, end in zip(climbed.places, climbed.ends, strict=True)
            if end >= value + 1e-3
        ),
        key=lambda other: -other[1],
    )
    starting = len(climbed.ends)
    return Peak(
        position=position,
        log_density=-value,
        hessian=hessian,
        agreeing=agreeing,
        starts=starting,
        settled=settled,
        others=tuple(others),
    )


@dataclass(frozen=True)
class Climb:
    """The best end of several climbs, and place and negative log density of each end."""

    position: np.ndarray
    ends: tuple[float, ...]
    places: tuple[np.ndarray, ...]


def climb(target: TargetDensity, seed: int, starts: int, most: int = 2000) -> Climb:
    """Climb from several starting points by quasi-Newton steps, at most `most` of them.

    Raises
    ------
    StartError
        If the density is finite at no starting point.
    """
    # Heavy, and not needed for most fits.
    from scipy import optimize

    downhill = _downhill(target)
    candidates = target.starts(generator_of(seed, Stream.OPTIMISATION), 100)
    finite = [q for q in candidates if np.isfinite(downhill(q)[0])][:starts]
    if len(finite) < starts:
        # The prior is nearly nowhere finite: from nearer to its middle, the nearest first.
        nearer = pulled_in(candidates)[::-_SKIPPED]
        finite += [q for q in nearer if np.isfinite(downhill(q)[0])]
    if not finite:
        raise StartError(
            "No starting point: the log density was not finite at any of 100 points drawn from "
            f"the prior, nor nearer to its middle. {target.explain(candidates)}"
        )
    options = {"maxiter": most, "ftol": 1e-14}
    ends = [
        optimize.minimize(_walled(downhill), q, jac=True, method="L-BFGS-B", options=options)
        for q in finite
    ]
    best = min(ends, key=lambda end: end.fun)
    return Climb(
        np.asarray(best.x),
        tuple(float(end.fun) for end in ends),
        tuple(np.asarray(end.x) for end in ends),
    )


def _example(target: TargetDensity) -> tuple[Any, ...]:
    return np.zeros(target.dimension), target.arguments


def _downhill(target: TargetDensity) -> Callable[[np.ndarray], tuple[float, np.ndarray]]:
    """Return the negative log density with its gradient; infinite where it is not finite."""
    slope = compiled(value_and_gradient, target.key, _example(target))
    arguments = on_device(target.arguments)

    def downhill(position: np.ndarray) -> tuple[float, np.ndarray]:
        value, gradient = slope(position, arguments)
        if not np.isfinite(value) or not np.isfinite(gradient).all():
            return np.inf, np.zeros_like(position)
        return -float(value), -np.asarray(gradient)

    return downhill


def _walled(
    downhill: Callable[[np.ndarray], tuple[float, np.ndarray]],
) -> Callable[[np.ndarray], tuple[float, np.ndarray]]:
    """Return `downhill` with a wall in place of infinite values, above all that one climb saw.

    The line search interpolates between values: one infinite value would end the climb at once.
    """
    highest = -np.inf

    def bounded(position: np.ndarray) -> tuple[float, np.ndarray]:
        nonlocal highest
        value, gradient = downhill(position)
        if np.isfinite(value):
            highest = max(highest, value)
            return value, gradient
        return highest + _WALL, gradient

    return bounded


_WALL = 10.0
_TOGETHER, _MANY = 16, 64
_SKIPPED = 4
_FEW_NUMBERS = 10_000
"""Of data: with more, positions side by side would hold much memory at once."""


class Slopes:
    """Negative log densities and gradients of a target; compiles them when it is made.

    Attributes
    ----------
    together
        How many positions a call of the compiled function takes.
    """

    def __init__(self, target: TargetDensity) -> None:
        self.together = _MANY if _few(target.arguments) else _TOGETHER
        example = np.zeros((self.together, target.dimension))
        self._slopes = compiled(_values_and_gradients, target.key, (example, target.arguments))
        self._arguments = on_device(target.arguments)

    def __call__(self, positions: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return values (n,) and gradients (n, dimension) at positions (n, dimension).

        Values are infinite, with a gradient of zero, where either is not finite.
        """
        if len(positions) == self.together:
            return self._whole(positions)
        values, gradients = np.empty(len(positions)), np.empty_like(positions)
        for at in range(0, len(positions), self.together):
            piece = positions[at : at + self.together]
            # One compiled function serves all: a short piece is filled up with its last row.
            missing = np.repeat(piece[-1:], self.together - len(piece), 0)
            found = self._whole(np.concatenate([piece, missing]))
            values[at : at + len(piece)] = found[0][: len(piece)]
            gradients[at : at + len(piece)] = found[1][: len(piece)]
        return values, gradients

    def _whole(self, positions: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        found = self._slopes(positions, self._arguments)
        values, gradients = -np.asarray(found[0]), -np.asarray(found[1])
        bad = ~(np.isfinite(values) & np.isfinite(gradients).all(axis=1))
        if bad.any():
            values[bad], gradients[bad] = np.inf, 0.0
        return values, gradients


def _few(data: Any) -> bool:
    import jax

    return sum(map(np.size, jax.tree.leaves(data))) <= _FEW_NUMBERS


def _values_and_gradients(
    log_density: Callable[[Any, Any], Any], positions: Any, data: Any
) -> Any:
    """Return log densities and gradients at each position; to be compiled."""
    import jax

    def both(position: Any) -> Any:
        return value_and_gradient(log_density, position, data)

    return jax.vmap(both)(positions) if _few(data) else jax.lax.map(both, positions)


def _hessian(log_density: Callable[[Any, Any], Any], position: Any, arguments: Any) -> Any:
    import jax

    return jax.hessian(lambda q: log_density(q, arguments))(position)


def _polished(
    position: np.ndarray,
    downhill: Callable[[np.ndarray], tuple[float, np.ndarray]],
    curvature: Callable[[np.ndarray], np.ndarray],
) -> np.ndarray:
    """Take Newton steps while they lead down."""
    value, gradient = downhill(position)
    for _ in range(20):
        try:
            step = np.linalg.solve(-curvature(position), gradient)
        except np.linalg.LinAlgError:
            return position
        following = position - step
        new_value, new_gradient = downhill(following)
        if not new_value <= value:
            return position
        position, value, gradient = following, new_value, new_gradient
        if np.abs(step).max() < 1e-12:
            return position
    return position


def newton_decrement(gradient: np.ndarray, hessian: np.ndarray) -> float:
    """Return how far the value is from that of the local quadratic's top; inf if it has none."""
    try:
        factor = np.linalg.cholesky(-hessian)
    except np.linalg.LinAlgError:
        return np.inf
    return float(np.sum(np.linalg.solve(factor, gradient) ** 2) / 2)
