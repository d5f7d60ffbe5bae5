"""What the study of a shape found."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from millwright.checks import check_whole
from millwright.diagnostics.finding import Finding
from millwright.draws.labelled_draws import thinned
from millwright.draws.numbers import decimals_of, fixed
from millwright.errors import ArgumentError
from millwright.sampling.streams import Stream, generator_of
from millwright.studies.curve_bands import Curves, places_of
from millwright.studies.findings import Findings
from millwright.studies.sentences import size_words
from millwright.studies.smooth_process import (
    Hyperparameters,
    function_draws,
    gain,
    hyperparameters,
    rising,
)
from millwright.wording import setting

if TYPE_CHECKING:
    from millwright.studies.smooth_study import SmoothStudy

__all__ = ["SmoothFindings"]

_UNKNOWNS = ("level", "height", "length", "noise")
_MOST = 400
_GRID = 100
_SURE = 0.95
_SHARE_OF_EDGE = 0.3


@dataclass(frozen=True, eq=False, kw_only=True)
class SmoothFindings(Findings):
    """The shape of y along x, its slope, and where another reading would help."""

    study: SmoothStudy

    def _numbers(self) -> dict[str, np.ndarray]:
        draws = self.posterior.draws
        return draws.single([name for name in _UNKNOWNS if name in draws.names()])

    def _one_sided(self) -> tuple[str, ...]:
        return ("height", "length", "noise")

    def _known(self, most: int = _MOST) -> Hyperparameters:
        draws = self.posterior.draws
        keep = thinned(draws, most)
        return hyperparameters(draws, keep)

    def curve(self, x: Any = None, *, draws: int = _MOST, seed: int = 0) -> Curves:
        """Draw the function given the readings, without their noise.

        Parameters
        ----------
        x
            Where, shape (points,); by default 100 places over the range of the data.
        draws
            The most draws to use.
        seed
            Any whole number from 0.

        Returns
        -------
        The functions, with bands, which widen where there are no readings.

        Raises
        ------
        ArgumentError
            For places that are no numbers, or a number of draws or a seed that makes no sense.
        """
        return self._drawn(x, draws, seed, slope=False)

    def slope(self, x: Any = None, *, draws: int = _MOST, seed: int = 0) -> Curves:
        """Draw the slope of the function, in units of y per unit of x.

        Parameters
        ----------
        x, draws, seed
            As for `curve`.

        Returns
        -------
        The slopes, with bands.

        Raises
        ------
        ArgumentError
            As for `curve`.
        """
        return self._drawn(x, draws, seed, slope=True)

    def _drawn(self, x: Any, draws: int, seed: int, slope: bool) -> Curves:
        check_whole("draws", draws, 2)
        check_whole("seed", seed, 0)
        places = places_of(self.study.readings.x, x, _GRID)
        generator = generator_of(seed, Stream.CURVE)
        made = function_draws(
            self.study.readings, self._known(draws), places, generator, slope=slope
        )
        return Curves(x=places, draws=made, level=self.level, kind=self.kind)

    def rising(self, x: Any = None) -> pd.DataFrame:
        """Return the probability that the function rises at each place, without random draws.

        Parameters
        ----------
        x
            As for `curve`.

        Returns
        -------
        One row a place: `x`, `P(rising)`.

        Raises
        ------
        ArgumentError
            For places that are no numbers.
        """
        places = places_of(self.study.readings.x, x, _GRID)
        chances = rising(self.study.readings, self._known(), places)
        return pd.DataFrame({"x": places, "P(rising)": chances})

    @cached_property
    def _told(self) -> tuple[Curves, pd.DataFrame]:
        """The curve and where it rises, as the answer tells them."""
        return self.curve(), self.rising()

    def next_place(self, candidates: Any = None, *, error: float = 1.0) -> pd.DataFrame:
        """Return where another reading would help most, over the range of the data.

        Parameters
        ----------
        candidates
            Places that can be read, shape (places,); by default 100 over the range of the data.
        error
            How large the error of the new reading is, over that of the readings (their median).

        Returns
        -------
        One row a place, the best first: `x`, and `variance less by`, the share by which a reading
        there lowers the variance of the function, averaged over the range of the data.

        Raises
        ------
        ArgumentError
            For places that are no numbers, or an error below 0.
        """
        if not np.isfinite(error) or error < 0:
            raise ArgumentError(f"{setting('error')} is a number from 0, not {error!r}.")
        rows = self.study.readings.x
        places = places_of(rows, candidates, _GRID)
        found = gain(
            self.study.readings,
            self._known(100),
            places,
            places_of(rows, None, 60),
            error * float(np.median(self.study.readings.errors)),
        )
        frame = pd.DataFrame({"x": places, "variance less by": found})
        order = np.argsort(-found, kind="stable")
        return frame.iloc[order].reset_index(drop=True)

    def _sentences(self) -> tuple[str, ...]:
        y, x = self.study.y, self.study.x
        curve, rising_at = self._told
        middle = curve.median
        spread = float(curve.draws.std(axis=0).mean())
        decimals = decimals_of(spread)
        high, low = int(np.argmax(middle)), int(np.argmin(middle))
        lines = [
            f"`{y}` is highest near {x} = {self._place(curve.x[high])} "
            f"({size_words(curve.draws[:, high], self.level, self.kind)}) and lowest near "
            f"{x} = {self._place(curve.x[low])} ({fixed(float(middle[low]), decimals)}), between "
            "the first and the last place.",
            *self._directions(rising_at),
        ]
        best = self._best
        lines.append(
            f"Another reading would help most near {x} = {self._place(best['x'])}: it lowers the "
            f"variance of the curve by {100 * best['variance less by']:.2g} % on average."
        )
        return tuple(lines)

    @cached_property
    def _best(self) -> pd.Series:
        return self.next_place().iloc[0]

    def _place(self, x: float) -> str:
        """Return a place with the decimals that tell a hundredth of the range."""
        return fixed(float(x), decimals_of(float(np.ptp(self.study.readings.x)) / 10))

    def _directions(self, rising_at: pd.DataFrame) -> list[str]:
        places, up = (rising_at[name].to_numpy() for name in ("x", "P(rising)"))
        lines = []
        for word, sure in (("rises", up > _SURE), ("falls", up < 1 - _SURE)):
            pieces = [
                f"{self._place(first)} to {self._place(last)}"
                for first, last in _stretches(places, sure)
            ]
            if pieces:
                lines.append(
                    f"It {word}, with probability above {_SURE:g} at each place, for "
                    f"{self.study.x} {', '.join(pieces)}."
                )
        if not lines:
            lines.append(f"At no place is it sure (probability {_SURE:g}) to rise or to fall.")
        return lines

    def _cautions(self) -> tuple[Finding, ...]:
        """Say where the length runs out of what the data can tell."""
        x = np.unique(self.study.readings.x)
        length = self.posterior.draws.get("length")
        span, spacing = float(x[-1] - x[0]), float(np.median(np.diff(x)))
        short, long = float((length < spacing).mean()), float((length > span).mean())
        if short > _SHARE_OF_EDGE:
            return (
                Finding(
                    "caution",
                    f"The length is below the distance of neighbouring places ({spacing:.3g}) "
                    f"with probability {short:.2f}: the curve follows single readings.",
                    "Read at places closer together, or give a prior of `length` that rules short "
                    "ones out.",
                    of_data=True,
                ),
            )
        if long > _SHARE_OF_EDGE:
            return (
                Finding(
                    "note",
                    f"The length is beyond the span of the places ({span:.3g}) with probability "
                    f"{long:.2f}: over them the curve is nearly a line or a simple bend.",
                    "A formula would say the same with fewer unknowns.",
                    of_data=True,
                ),
            )
        return ()


def _stretches(x: np.ndarray, which: np.ndarray) -> list[tuple[float, float]]:
    """Return the first and the last place of each run."""
    edges = np.diff(np.concatenate([[0], which.astype(int), [0]]))
    begins, ends = np.flatnonzero(edges == 1), np.flatnonzero(edges == -1) - 1
    return [
        (float(x[first]), float(x[last]))
        for first, last in zip(begins, ends, strict=True)
        if last > first
    ]
