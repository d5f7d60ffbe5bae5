"""Many climbs side by side, so that each call of the compiled gradient serves all of them.

Limited-memory quasi-Newton steps (Nocedal and Wright 2006, algorithm 7.4) with backtracking
(their section 3.1). One climb at a time would spend many times the cost of its gradients on
calling them from Python.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from millwright.sampling.mode import Slopes

__all__ = ["Climbs", "Top"]

_MEMORY = 8
_LONGEST = 150
_SURE = 1e-4
_FLAT = 1e-6
_SHORTEST = 1e-8


@dataclass(frozen=True)
class Top:
    """Where a climb ended.

    Attributes
    ----------
    value
        Negative log density.
    widths
        Rough scale of each coordinate there, from the steps taken.
    settled
        Whether no step leads on, rather than that there were enough of them.
    """

    position: np.ndarray
    value: float
    widths: np.ndarray
    settled: bool


class Climbs:
    """Climbs of one target, several at a time.

    Parameters
    ----------
    slopes
        Negative log densities and gradients.
    most
        All climbs end, wherever they are, after about so many gradients.
    together
        At most so many climbs at a time.

    Attributes
    ----------
    evaluations
        How many gradients were taken.
    lost
        How many climbs were under way when there was nothing left to spend.
    """

    def __init__(self, slopes: Slopes, most: int, together: int) -> None:
        self.slopes, self.most = slopes, most
        self.together = min(together, slopes.together)
        self.evaluations = self.lost = 0

    @property
    def cut(self) -> bool:
        """Whether there is nothing left to spend."""
        return self.evaluations >= self.most

    def spend(self, climbs: int) -> None:
        """Allow gradients for so many whole climbs more, however many were taken."""
        self.most = max(self.most, self.evaluations + climbs * _LONGEST)

    def heights(self, positions: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return negative log densities and gradients at positions (n, dimension)."""
        self.evaluations += len(positions)
        return self.slopes(positions)

    def tops(
        self,
        starts: Iterator[np.ndarray],
        centre: np.ndarray,
        factor: np.ndarray,
        known: Callable[[np.ndarray, np.ndarray], np.ndarray],
    ) -> Iterator[Top]:
        """Climb from one start after the other; yield where each climb ended.

        Parameters
        ----------
        starts
            Asked for the next start as soon as a climb has ended.
        centre, factor
            Climbs run in z of  position = centre + factor z;  a factor of shape (dimension,) is
            diagonal.
        known
            Which of some positions, with their values, lie in the basin of a peak that is known:
            climbs end there without being reported.
        """
        lanes = _Lanes(self.slopes, centre, factor)
        while True:
            lanes.fill(starts, self.together)
            if not lanes.busy.any():
                return
            self.evaluations += int(lanes.busy.sum())
            lanes.step()
            there = lanes.busy & known(lanes.positions(lanes.z), lanes.f)
            over = lanes.busy & lanes.over()
            # A start without a density is no end of a climb.
            for at in np.flatnonzero(over & ~there & np.isfinite(lanes.f)):
                yield lanes.top(int(at))
            lanes.busy &= ~(over | there)
            if self.cut:
                self.lost += int(lanes.busy.sum())
                return


class _Lanes:
    """The climbs under way: arrays have the lanes as their first axis; not every one is busy.

    Attributes
    ----------
    way, length
        Direction of the next step, and how much of it is tried.
    spent
        How many steps were tried; the first leads nowhere, but to the gradient.
    steps, turns
        The last steps and what they did to the gradient, shape (lanes, 8, dimension).
    scale
        Rough inverse curvature.
    """

    def __init__(self, slopes: Slopes, centre: np.ndarray, factor: np.ndarray) -> None:
        self.slopes, self.centre, self.factor = slopes, centre, factor
        count, dimension = slopes.together, len(centre)
        self.busy = np.zeros(count, dtype=bool)
        self.z, self.g, self.way = (np.zeros((count, dimension)) for _ in range(3))
        self.f, self.length, self.scale = (np.zeros(count) for _ in range(3))
        self.spent = np.zeros(count, dtype=int)
        self.steps, self.turns = (np.zeros((count, _MEMORY, dimension)) for _ in range(2))

    def positions(self, z: np.ndarray) -> np.ndarray:
        return self.centre + (z * self.factor if self.factor.ndim == 1 else z @ self.factor.T)

    def fill(self, starts: Iterator[np.ndarray], together: int) -> None:
        """Let new climbs begin where there is room."""
        room = np.flatnonzero(~self.busy)[: together - int(self.busy.sum())]
        new = list(zip(room, starts, strict=False))
        if not new:
            return
        at = np.array([lane for lane, _ in new])
        apart = np.stack([start for _, start in new]) - self.centre
        if self.factor.ndim == 1:
            self.z[at] = apart / self.factor
        else:
            self.z[at] = np.linalg.solve(self.factor, apart.T).T
        self.busy[at] = True
        self.f[at], self.length[at], self.scale[at] = np.inf, 1.0, 1.0
        for held in (self.g, self.way, self.spent, self.steps, self.turns):
            held[at] = 0

    def step(self) -> None:
        """Try one step of every climb."""
        tried = self.z + self.length[:, None] * self.way
        values, gradients = self.slopes(self.positions(tried))
        diagonal = self.factor.ndim == 1
        gradients = gradients * self.factor if diagonal else gradients @ self.factor
        slope = _dots(self.g, self.way)
        good = self.busy & (values <= self.f + _SURE * self.length * slope)
        first = self.spent == 0
        self.spent += 1
        self._shorten(self.busy & ~good, values, slope)
        if not good.any():
            return
        self._remember(good & ~first, tried - self.z, gradients - self.g)
        self.z[good], self.f[good], self.g[good] = tried[good], values[good], gradients[good]
        self.way[good] = self._direction()[good]
        # The first step that leads anywhere is as long as one width, whatever the slope.
        size = np.sqrt(_dots(gradients, gradients))
        self.length[good] = np.where(first, 1.0 / np.maximum(size, 1e-12), 1.0)[good]

    def _shorten(self, which: np.ndarray, values: np.ndarray, slope: np.ndarray) -> None:
        """Shorten a step to the lowest point of the parabola through what is known."""
        rise = values - self.f - slope * self.length
        best = -slope * self.length**2 / (2 * rise)
        best = np.where(np.isfinite(best), best, 0.0)
        shorter = np.clip(best, 0.1 * self.length, 0.5 * self.length)
        self.length[which] = shorter[which]

    def _remember(self, which: np.ndarray, step: np.ndarray, turn: np.ndarray) -> None:
        product, size = _dots(step, turn), _dots(turn, turn)
        curved = which & (product > 1e-10 * np.sqrt(size * _dots(step, step)))
        for held, new in ((self.steps, step), (self.turns, turn)):
            held[curved, :-1] = held[curved, 1:]
            held[curved, -1] = new[curved]
        self.scale[curved] = product[curved] / size[curved]

    def _direction(self) -> np.ndarray:
        """Return the quasi-Newton directions.

        The two loops over what is remembered are solutions of two triangular systems in its
        products, which cost the same in any number of dimensions.
        """
        products = self.steps @ self.turns.swapaxes(1, 2)
        diagonal = np.einsum("lmm->lm", products)
        inverse = np.divide(1.0, diagonal, out=np.zeros_like(diagonal), where=diagonal > 0)
        along = (self.steps @ self.g[:, :, None])[:, :, 0]
        parts = np.zeros_like(along)
        for at in range(_MEMORY - 1, -1, -1):
            later = _dots(products[:, at, at + 1 :], parts[:, at + 1 :])
            parts[:, at] = inverse[:, at] * (along[:, at] - later)
        way = self.scale[:, None] * (self.g - (parts[:, None] @ self.turns)[:, 0])
        across = (self.turns @ way[:, :, None])[:, :, 0]
        back = np.zeros_like(along)
        for at in range(_MEMORY):
            earlier = _dots(products[:, :at, at], back[:, :at])
            back[:, at] = parts[:, at] - inverse[:, at] * (across[:, at] + earlier)
        return np.asarray(-(way + (back[:, None] @ self.steps)[:, 0]))

    def over(self) -> np.ndarray:
        """Say which climbs have come to their end."""
        gain = -0.5 * _dots(self.g, self.way)
        return np.asarray(
            ~np.isfinite(gain)
            | ~np.isfinite(self.f)
            | (gain < _FLAT)
            | (self.spent >= _LONGEST)
            # The first step down a steep flank is short, and not yet tried.
            | ((self.length < _SHORTEST) & (self.spent > 1))
        )

    def top(self, at: int) -> Top:
        """Return the end of a climb."""
        width = np.sqrt(self.scale[at])
        if self.factor.ndim == 1:
            widths = width * self.factor
        else:
            widths = width * np.sqrt(np.sum(self.factor**2, axis=1))
        settled = bool(self.spent[at] < _LONGEST)
        return Top(self.positions(self.z)[at], float(self.f[at]), widths, settled)


def _dots(one: np.ndarray, other: np.ndarray) -> np.ndarray:
    """Return the products of vectors, lane by lane."""
    return np.asarray(np.einsum("ld,ld->l", one, other))
