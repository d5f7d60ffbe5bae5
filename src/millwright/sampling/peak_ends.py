"""Where a climb ended: whether there is a peak, smooth or with a kink, and its curvature."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from millwright.sampling.climbs import Climbs, Top

__all__ = ["End", "end_of", "rough_factor"]

_SETTLED = 0.01
_KINK = 20.0
"""So many times the curvature over large steps has that over tiny ones where there is a kink."""
_LOWER = 0.05
"""How much lower a place beside a corner must be to show that it is no peak."""
_STEPS, _STEPS_BESIDE = 4, 8


class _Differences(NamedTuple):
    """How second derivatives are taken.

    Attributes
    ----------
    step
        Of the differences, in widths of the peak.
    rounds, apart
        Widths are found anew so many times, or until they are so many times those before at most.
    """

    step: float
    rounds: int
    apart: float


_BESIDE = _Differences(1e-3, 3, 20.0)
_ACROSS = _Differences(0.5, 6, 1.5)
"""For what is smooth, and across a kink, where widths depend on the step."""


@dataclass(frozen=True, kw_only=True)
class End:
    """A place where a climb settled.

    `curvature` is minus the matrix of second derivatives, `factor` the Cholesky factor of its
    inverse; both None in too many dimensions, where `settled` says whether the climb came to its
    own end.
    """

    position: np.ndarray
    value: float
    curvature: np.ndarray | None = None
    factor: np.ndarray | None = None
    settled: bool = True


def end_of(climbs: Climbs, top: Top) -> End | None:
    """Take Newton steps from where a climb ended; None if there is no peak there."""
    position, value, widths = top.position, top.value, top.widths
    for _ in range(_STEPS):
        curvature, gradient, widths = _curvature(climbs, position, widths, _BESIDE)
        try:
            factor = np.linalg.cholesky(np.linalg.inv(curvature))
        except np.linalg.LinAlgError:
            return _kinked(climbs, position, value, top.widths)
        across = factor.T @ gradient
        if 0.5 * float(across @ across) < _SETTLED:
            end = End(position=position, value=value, curvature=curvature, factor=factor)
            rough, _, _ = _curvature(climbs, position, widths, _ACROSS)
            # Right on a corner slopes may be zero between both sides: its width is another.
            corner = np.any(np.diag(curvature) > _KINK * np.diag(rough))
            return (_kinked(climbs, position, value, widths) or end) if corner else end
        following = position - factor @ across
        new = float(climbs.heights(following[None])[0][0])
        if not new <= value:
            return _kinked(climbs, position, value, top.widths)
        position, value = following, new
    return _kinked(climbs, position, value, top.widths)


def rough_factor(climbs: Climbs, end: End, widths: np.ndarray) -> np.ndarray | None:
    """Return the Cholesky factor of the inverse curvature, taken once; None if there is no peak.

    Parameters
    ----------
    widths
        Rough scale of each coordinate, shape (dimension,).
    """
    curvature, _, _ = _curvature(climbs, end.position, widths, _BESIDE._replace(rounds=1))
    try:
        return np.asarray(np.linalg.cholesky(np.linalg.inv(curvature)))
    except np.linalg.LinAlgError:
        return None


def _kinked(climbs: Climbs, position: np.ndarray, value: float, widths: np.ndarray) -> End | None:
    """Take a place for a peak where slopes jump from one sign to the other, as |x| has it.

    Climbs end there without a slope of zero. Along the other coordinates Newton steps go on.
    """
    for _ in range(_STEPS_BESIDE):
        rough, _, wide = _curvature(climbs, position, widths, _ACROSS)
        fine, gradient, _ = _curvature(climbs, position, wide, _BESIDE._replace(rounds=1))
        kinks = np.diag(fine) > _KINK * np.diag(rough)
        if not kinks.any() or not np.all(np.diag(rough) > 0):
            return None
        smooth = np.where(kinks, 0.0, gradient)
        try:
            factor = np.linalg.cholesky(np.linalg.inv(rough))
            step = np.zeros(len(position))
            step[~kinks] = np.linalg.solve(rough[np.ix_(~kinks, ~kinks)], smooth[~kinks])
        except np.linalg.LinAlgError:
            return None
        if 0.5 * float(step @ smooth) < _SETTLED:
            around = position + np.concatenate([np.diag(wide), -np.diag(wide)])
            lower = climbs.heights(around)[0] < value - _LOWER
            end = End(position=position, value=value, curvature=rough, factor=factor)
            return None if lower.any() else end
        new = float(climbs.heights((position - step)[None])[0][0])
        if not new <= value:
            return None
        position, value, widths = position - step, new, wide
    return None


def _curvature(
    climbs: Climbs, position: np.ndarray, widths: np.ndarray, how: _Differences
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return second derivatives by central differences of the gradient, the gradient, widths."""
    gradient = climbs.heights(position[None])[1][0]
    for _ in range(how.rounds):
        moves = np.diag(how.step * widths)
        above, below = (climbs.heights(position + sign * moves)[1] for sign in (1, -1))
        matrix = (above - below) / (2 * how.step * widths[:, None])
        matrix = 0.5 * (matrix + matrix.T)
        own = 1.0 / np.sqrt(np.diag(matrix))
        own = np.where(np.isfinite(own), own, widths)
        if np.all((own > widths / how.apart) & (own < widths * how.apart)):
            break
        widths = own
    return matrix, gradient, own
