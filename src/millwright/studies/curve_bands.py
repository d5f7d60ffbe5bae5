"""The spread of curves over the draws."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd

from millwright.display import Shown, frame_text
from millwright.draws.intervals import IntervalKind, interval, kind_words
from millwright.errors import ArgumentError
from millwright.wording import setting

__all__ = ["Curves", "places_of"]

_SHOWN = 12


@dataclass(frozen=True, eq=False, kw_only=True)
class Curves(Shown):
    """Curves of many draws at some places.

    Attributes
    ----------
    x
        The places, shape (points,).
    draws
        Shape (draws, points).
    level, kind
        Of the outer band.
    """

    x: np.ndarray = field(repr=False)
    draws: np.ndarray = field(repr=False)
    level: float = 0.95
    kind: IntervalKind = "central"

    @property
    def outer(self) -> tuple[np.ndarray, np.ndarray]:
        """The ends of the outer band, each of shape (points,)."""
        low, high = interval(self.draws, self.level, self.kind)
        return np.asarray(low), np.asarray(high)

    @property
    def inner(self) -> tuple[np.ndarray, np.ndarray]:
        """The ends of the central 68 %, each of shape (points,)."""
        low, high = np.quantile(self.draws, [0.16, 0.84], axis=0)
        return low, high

    @property
    def median(self) -> np.ndarray:
        """The median at each place."""
        return np.asarray(np.median(self.draws, axis=0))

    def to_dataframe(self) -> pd.DataFrame:
        """Return one row a place: median, the central 68 %, and the outer band."""
        inner, outer = self.inner, self.outer
        return pd.DataFrame(
            {
                "x": self.x,
                "median": self.median,
                "68 % central from": inner[0],
                "68 % central to": inner[1],
                f"{100 * self.level:g} % {self.kind} from": outer[0],
                f"{100 * self.level:g} % {self.kind} to": outer[1],
            }
        )

    def __str__(self) -> str:
        frame = self.to_dataframe()
        frame.index = [f"x = {place:.4g}" for place in self.x]
        outer = kind_words(self.kind, self.level)
        head = f"Curves at {len(self.x)} places, {len(self.draws)} draws; outer band: {outer}"
        return f"{head}\n{frame_text(frame.drop(columns='x'), _SHOWN)}"


def places_of(rows: np.ndarray, x: Any, count: int) -> np.ndarray:
    """Return places as numbers, by default evenly over the range of the rows.

    Raises
    ------
    ArgumentError
        If they are no finite numbers.
    """
    if x is None:
        return np.linspace(rows.min(), rows.max(), count)
    try:
        places = np.asarray(x, dtype=float).reshape(-1)
    except (TypeError, ValueError) as error:
        raise ArgumentError(f"{setting('x')} is a list of numbers, not {x!r}.") from error
    if not len(places) or not np.isfinite(places).all():
        raise ArgumentError(f"{setting('x')} is a list of finite numbers.")
    return places
