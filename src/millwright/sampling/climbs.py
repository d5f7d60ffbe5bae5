"""Many climbs side by side, so that each call of the compiled gradient serves all of them.

Limited-memory quasi-Newton steps (Nocedal and Wright 2006, algorithm 7.4) with backtracking
(their section 3.1). One climb at a time would spend many times the cost of its gradients on
calling them from Python.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

__all__ = ["Top", "climbs"]

_MEMORY = 8
_LONGEST = 150
_SURE = 1e-4
_FLAT = 1e-6
_SHORTEST = 1e-8

Heights = Callable[[np.ndarray], tuple[np.ndarray, np.ndarray]]


@dataclass(frozen=True)
class Top:
    """Where a climb ended.

    Attributes
    ----------
    value
        Negative log density.
    widths
        Rough scale of each coordinate there, from the steps taken.
    """

    position: np.ndarray
    value: float
    widths: np.ndarray


def climbs(
    downhill: Heights,
    starts: Iterator[np.ndarray],
    centre: np.ndarray,
    factor: np.ndarray,
    known: Callable[[np.ndarray, np.ndarray], np.ndarray],
    together: int,
) -> Iterator[Top]:
    """Climb from one start after the other, several at a time; yield where each ended.

    Parameters
    ----------
    downhill
        Negative log densities and gradients at positions (n, dimension).
    starts
        Asked for the next start as soon as a climb has ended.
    centre, factor
        Climbs run in z of  position = centre + factor z;  a factor of shape (dimension,) is
        diagonal.
    known
        Which of some positions, with their values, lie in the basin of a peak that is known:
        climbs end there without being reported.
    together
        How many climbs at a time.
    """
    lanes = _Lanes(downhill, centre, factor, together)
    lanes.fill(starts)
    while len(lanes.z):
        lanes.step()
        there = known(lanes.positions(), lanes.f)
        over = lanes.over()
        for at in np.flatnonzero(over & ~there):
            yield lanes.top(int(at))
        lanes.keep(~(over | there))
        lanes.fill(starts)


class _Lanes:
    """The climbs under way; arrays have them as their first axis."""

    def __init__(
        self, downhill: Heights, centre: np.ndarray, factor: np.ndarray, together: int
    ) -> None:
        self.downhill, self.centre, self.factor = downhill, centre, factor
        self.together = together
        self._set(np.zeros((0, len(centre))))

    def _set(self, z: np.ndarray) -> None:
        count, dimension = z.shape
        self.z, self.f, self.g = z, np.zeros(count), np.zeros_like(z)
        self.way, self.length = np.zeros_like(z), np.ones(count)
        self.spent = np.zeros(count, dtype=int)
        self.steps = np.zeros((_MEMORY, count, dimension))
        self.turns = np.zeros((_MEMORY, count, dimension))
        self.inverse = np.zeros((_MEMORY, count))
        self.scale = np.ones(count)

    def positions(self, z: np.ndarray | None = None) -> np.ndarray:
        z = self.z if z is None else z
        return self.centre + (z * self.factor if self.factor.ndim == 1 else z @ self.factor.T)

    def heights(self, z: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        values, gradients = self.downhill(self.positions(z))
        if self.factor.ndim == 1:
            return values, gradients * self.factor
        return values, gradients @ self.factor

    def fill(self, starts: Iterator[np.ndarray]) -> None:
        """Let new climbs begin where there is room."""
        while len(self.z) < self.together:
            new = [q for q, _ in zip(starts, range(self.together - len(self.z)), strict=False)]
            if not new:
                return
            apart = np.stack(new) - self.centre
            if self.factor.ndim == 1:
                z = apart / self.factor
            else:
                z = np.linalg.solve(self.factor, apart.T).T
            values, gradients = self.heights(z)
            good = np.isfinite(values)
            self._add(z[good], values[good], gradients[good])

    def _add(self, z: np.ndarray, values: np.ndarray, gradients: np.ndarray) -> None:
        old = self.__dict__.copy()
        self._set(z)
        self.f, self.g = values, gradients
        self.way = -gradients
        size = np.linalg.norm(gradients, axis=1)
        # The first step is as long as one width, whatever the slope.
        self.length = 1.0 / np.maximum(size, 1e-12)
        for name in ("z", "f", "g", "way", "length", "spent", "scale"):
            setattr(self, name, np.concatenate([old[name], getattr(self, name)]))
        for name in ("steps", "turns", "inverse"):
            setattr(self, name, np.concatenate([old[name], getattr(self, name)], axis=1))

    def keep(self, which: np.ndarray) -> None:
        if which.all():
            return
        for name in ("z", "f", "g", "way", "length", "spent", "scale"):
            setattr(self, name, getattr(self, name)[which])
        for name in ("steps", "turns", "inverse"):
            setattr(self, name, getattr(self, name)[:, which])

    def step(self) -> None:
        """Try one step of every climb."""
        tried = self.z + self.length[:, None] * self.way
        values, gradients = self.heights(tried)
        self.spent += 1
        slope = np.sum(self.g * self.way, axis=1)
        good = values <= self.f + _SURE * self.length * slope
        self._shorten(~good, values, slope)
        rows = np.flatnonzero(good)
        if not len(rows):
            return
        step, turn = tried[rows] - self.z[rows], gradients[rows] - self.g[rows]
        self.z[rows], self.f[rows], self.g[rows] = tried[rows], values[rows], gradients[rows]
        self._remember(rows, step, turn)
        self.way[rows] = self._direction(rows)
        self.length[rows] = 1.0

    def _shorten(self, rows: np.ndarray, values: np.ndarray, slope: np.ndarray) -> None:
        """Shorten a step to the lowest point of the parabola through what is known."""
        length = self.length[rows]
        rise = values[rows] - self.f[rows] - slope[rows] * length
        best = -slope[rows] * length**2 / (2 * rise)
        best = np.where(np.isfinite(best), best, 0.0)
        self.length[rows] = np.clip(best, 0.1 * length, 0.5 * length)

    def _remember(self, rows: np.ndarray, step: np.ndarray, turn: np.ndarray) -> None:
        product = np.sum(step * turn, axis=1)
        size = np.sum(turn * turn, axis=1)
        curved = product > 1e-10 * np.sqrt(size * np.sum(step * step, axis=1))
        rows = rows[curved]
        for held, new in (
            (self.steps, step[curved]),
            (self.turns, turn[curved]),
            (self.inverse, 1.0 / product[curved]),
        ):
            held[:-1, rows] = held[1:, rows]
            held[-1, rows] = new
        self.scale[rows] = product[curved] / size[curved]

    def _direction(self, rows: np.ndarray) -> np.ndarray:
        """Return the quasi-Newton direction by the two loops over what is remembered."""
        steps, turns = self.steps[:, rows], self.turns[:, rows]
        inverse = self.inverse[:, rows]
        way = self.g[rows].copy()
        parts = np.zeros((_MEMORY, len(rows)))
        for at in range(_MEMORY - 1, -1, -1):
            parts[at] = inverse[at] * np.sum(steps[at] * way, axis=1)
            way -= parts[at][:, None] * turns[at]
        way *= self.scale[rows][:, None]
        for at in range(_MEMORY):
            back = inverse[at] * np.sum(turns[at] * way, axis=1)
            way += (parts[at] - back)[:, None] * steps[at]
        return -way

    def over(self) -> np.ndarray:
        """Say which climbs have come to their end."""
        gain = -0.5 * np.sum(self.g * self.way, axis=1)
        return (
            ~np.isfinite(gain)
            | (gain < _FLAT)
            | (self.spent >= _LONGEST)
            | (self.length < _SHORTEST)
        )

    def top(self, at: int) -> Top:
        """Return the end of a climb."""
        width = np.sqrt(self.scale[at])
        if self.factor.ndim == 1:
            widths = width * self.factor
        else:
            widths = width * np.sqrt(np.sum(self.factor**2, axis=1))
        return Top(self.positions()[at], float(self.f[at]), widths)
