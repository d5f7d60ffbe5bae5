"""The highest point of a target that has no gradient, and the curvature there by differences."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from millwright.errors import StartError
from millwright.sampling.mode import Peak, newton_decrement
from millwright.sampling.start_points import pulled_in
from millwright.sampling.streams import Stream, generator_of
from millwright.sampling.target import TargetDensity

__all__ = ["find_peak_by_values"]

_RISE = 0.02
"""How far a step for differences should change the log density: far above rounding, and small."""
_SETTLED = 1e-4


def find_peak_by_values(target: TargetDensity, seed: int, starts: int = 6) -> Peak:
    """Climb from several starting points without derivatives.

    Conjugate directions (Powell 1964), finished by a simplex (Nelder and Mead 1965) and by Newton
    steps on differences.

    Raises
    ------
    StartError
        If the density is finite at no starting point.
    """
    # Heavy, and not needed for most fits.
    from scipy import optimize

    candidates = target.starts(generator_of(seed, Stream.OPTIMISATION), 100)
    values = target.plain(candidates)
    if not np.isfinite(values).any():
        candidates = np.concatenate([candidates, pulled_in(candidates)])
        values = target.plain(candidates)
    finite = np.flatnonzero(np.isfinite(values))
    if not len(finite):
        raise StartError(
            "No starting point: the log density was not finite at any of 100 points drawn from "
            f"the prior, nor nearer to its middle. {target.explain(candidates)}"
        )
    best = finite[np.argsort(-values[finite], kind="stable")]
    chosen = list(dict.fromkeys([*best[: starts // 2], *finite]))[:starts]

    def height(position: np.ndarray) -> float:
        value = float(target.plain(position[None])[0])
        return -value if np.isfinite(value) else 1e300

    ends = []
    for start in candidates[chosen]:
        rough = optimize.minimize(
            height, start, method="Powell", options={"xtol": 1e-6, "ftol": 1e-10}
        )
        ends.append(
            optimize.minimize(
                height,
                np.atleast_1d(rough.x),
                method="Nelder-Mead",
                options={"xatol": 1e-7, "fatol": 1e-11, "maxfev": 400 * len(start)},
            )
        )
    first = min(ends, key=lambda end: end.fun)
    position, hessian, gradient = _polished(np.asarray(first.x), target.plain)
    value = -height(position)
    others = sorted(
        ((np.asarray(end.x), -float(end.fun)) for end in ends if -end.fun < value - 1e-3),
        key=lambda other: -other[1],
    )
    settled = newton_decrement(-gradient, hessian) < _SETTLED
    agreeing = len(ends) - len(others)
    return Peak(
        position=position,
        log_density=value,
        hessian=hessian,
        agreeing=agreeing,
        starts=len(ends),
        settled=settled,
        others=tuple(others),
    )


def _polished(
    position: np.ndarray, plain: Callable[[np.ndarray], np.ndarray]
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Take Newton steps while they lead up; return place, second and first derivatives."""
    for _ in range(5):
        hessian, gradient = _derivatives(position, plain)
        try:
            following = position + np.linalg.solve(-hessian, gradient)
        except np.linalg.LinAlgError:
            break
        before, after = plain(np.stack([position, following]))
        if not after > before + 1e-10:
            break
        position = following
    return position, hessian, gradient


def _derivatives(
    position: np.ndarray, plain: Callable[[np.ndarray], np.ndarray]
) -> tuple[np.ndarray, np.ndarray]:
    """Return second and first derivatives by central differences of values."""
    steps = _steps(position, plain)
    size = len(position)
    rows, columns = np.triu_indices(size)
    signs = ((1, 1), (1, -1), (-1, 1), (-1, -1))
    moves = np.diag(steps)
    points = [position + a * moves[rows] + b * moves[columns] for a, b in signs]
    straight = [position + moves, position - moves]
    found = plain(np.concatenate([*points, *straight, position[None]]))
    corners = found[: 4 * len(rows)].reshape(4, len(rows))
    up, down = found[4 * len(rows) : -1].reshape(2, size)
    hessian = np.zeros((size, size))
    cross = (corners[0] - corners[1] - corners[2] + corners[3]) / (
        4 * steps[rows] * steps[columns]
    )
    hessian[rows, columns] = hessian[columns, rows] = cross
    hessian[np.arange(size), np.arange(size)] = (up - 2 * found[-1] + down) / steps**2
    return hessian, (up - down) / (2 * steps)


def _steps(position: np.ndarray, plain: Callable[[np.ndarray], np.ndarray]) -> np.ndarray:
    """Return steps along each coordinate that change the log density by a little."""
    steps = np.full(len(position), 1e-3)
    for _ in range(40):
        around = np.concatenate([position + np.diag(steps), position - np.diag(steps)])
        here = plain(position[None])[0]
        change = np.abs(plain(around) - here).reshape(2, -1).max(axis=0)
        factor = np.where(change > 4 * _RISE, 0.5, np.where(change < 0.25 * _RISE, 2.0, 1.0))
        factor = np.where(np.isfinite(change), factor, 0.5)
        if (factor == 1.0).all():
            break
        steps = np.clip(steps * factor, 1e-9, 10.0)
    return steps
