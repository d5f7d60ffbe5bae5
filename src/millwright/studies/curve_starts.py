"""Where walkers begin: around the point fit, wider than it is sure of itself."""

from __future__ import annotations

from typing import Any

import numpy as np

from millwright.sampling.streams import Stream, generator_of
from millwright.studies.curve_parts import ERROR_FACTOR, NOISE, CurveParts
from millwright.studies.curve_points import PointFit

__all__ = ["starts_around"]

_WIDER = 2.0
_TRIES = 50


def starts_around(
    parts: CurveParts, points: PointFit, count: int, seed: int
) -> list[dict[str, Any]]:
    """Return starting values for so many walkers, over-dispersed around the point fit.

    Numbers that the points do not limit begin at draws of their priors. There are fewer where the
    curve is hardly anywhere a number.
    """
    generator = generator_of(seed, Stream.START)
    positions = _positions(parts, points, count, generator)
    cells = [parts.priors_alone.single([name]) for name in parts.free]
    sizes = [len(one) for one in cells]
    scales = [name for name in (NOISE, ERROR_FACTOR) if name in parts.priors]
    level = float(np.sqrt(points.reduced)) if points.reduced > 0 else 1.0
    found: list[dict[str, Any]] = []
    for row in positions:
        pieces = np.split(row, np.cumsum(sizes)[:-1])
        own: dict[str, Any] = {
            name: piece.tolist() if name in parts.each else float(piece[0])
            for name, piece in zip(parts.free, pieces, strict=True)
        }
        for name in scales:
            many = len(parts.data.labels) if name in parts.each else 1
            drawn = level * np.exp(0.2 * generator.standard_normal(many))
            own[name] = drawn.tolist() if name in parts.each else float(drawn[0])
        found.append(own)
    return found


def _positions(
    parts: CurveParts, points: PointFit, count: int, generator: np.random.Generator
) -> np.ndarray:
    """Draw positions within the ranges at which the curve is finite.

    Where hardly any are, the last ones begin nearer and nearer to the point fit.
    """
    space = parts.space
    errors = np.array(points.errors)
    known = np.isfinite(errors)
    wide = np.where(known, np.minimum(errors, 2 * space.scale), 0.0)
    root = _root(np.array(points.correlations))
    middle = np.array(points.estimates)
    found: list[np.ndarray] = []
    for tried in range(_TRIES):
        reach = _WIDER * 0.8 ** max(0, tried - _TRIES // 2)
        steps = reach * wide * (generator.standard_normal((count, len(middle))) @ root.T)
        priors = space.draws[generator.integers(len(space.draws), size=count)]
        every = np.where(known, middle + steps, priors)
        inside = every[np.all((every > space.low) & (every < space.high), axis=1)]
        if len(inside):
            found += list(inside[np.isfinite(parts.fitted(inside)).all(axis=1)])
        if len(found) >= count:
            break
    return np.array(found[:count])


def _root(correlations: np.ndarray) -> np.ndarray:
    sizes, ways = np.linalg.eigh(correlations)
    return np.asarray(ways * np.sqrt(np.maximum(sizes, 0.0)))
