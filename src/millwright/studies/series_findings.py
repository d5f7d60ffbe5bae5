"""What a study of one series found: its parts in time, and how it goes on."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from millwright.draws.intervals import interval, kind_words
from millwright.draws.numbers import chance_text
from millwright.errors import ArgumentError
from millwright.studies.autoregression_drifts import ERROR
from millwright.studies.autoregression_findings import AutoregressionFindings
from millwright.studies.sentences import size_words
from millwright.wording import visible

if TYPE_CHECKING:
    from millwright.studies.series_study import SeriesStudy

__all__ = ["SeriesFindings"]

_CLEAR = 0.5


@dataclass(frozen=True, eq=False, kw_only=True)
class SeriesFindings(AutoregressionFindings):
    """The answer of a study of one series."""

    study: SeriesStudy

    def part_draws(self) -> dict[str, np.ndarray]:
        """Return draws of each part at each time, (draws, times); together they make the mean."""
        model = self.study.parts
        x = model.data.regressors(model.data.filled)
        found: dict[str, np.ndarray] = {}
        for r, part in enumerate(model.owner):
            values = self.path(0, r) * x[:, r]
            name = "level" if part is None else part.name
            found[name] = found[name] + values if name in found else values
        return found

    def parts(self) -> pd.DataFrame:
        """Summarise the parts at every time.

        Returns
        -------
        One row a part and time: median and interval. The level is that of the series with all
        other parts at their means, which the others are counted from.
        """
        words = kind_words(self.kind, self.level)
        labels = self.study.parts.data.labels
        frames = []
        for name, draws in self.part_draws().items():
            low, high = interval(draws, self.level, self.kind)
            table = {"median": np.median(draws, axis=0), f"{words}, from": low}
            index = pd.MultiIndex.from_product([[name], labels], names=["part", "time"])
            frames.append(pd.DataFrame({**table, f"{words}, to": high}, index=index))
        return pd.concat(frames)

    def breaks(self) -> pd.DataFrame:
        """Say where the level steps farthest.

        Returns
        -------
        One row a time from the second: median and interval of the step from the time before, and
        the probability that it is the largest of all; the most probable first.

        Raises
        ------
        ArgumentError
            If no part of the series is `level(breaks)`.
        """
        model = self.study.parts
        if not any(part.breaks for part in model.parts):
            raise ArgumentError("No level may jump here: write `level(breaks)` among the parts.")
        steps = np.diff(self.path(0, 0), axis=1)
        largest = np.argmax(np.abs(steps), axis=1)
        words = kind_words(self.kind, self.level)
        low, high = interval(steps, self.level, self.kind)
        table = {"median step": np.median(steps, axis=0), f"{words}, from": low}
        shares = np.bincount(largest, minlength=steps.shape[1]) / len(steps)
        frame = pd.DataFrame(
            {**table, f"{words}, to": high, "probability of being the largest": shares},
            index=pd.Index(model.data.labels[1:], name="time"),
        )
        return frame.sort_values("probability of being the largest", ascending=False)

    def _refused(self, what: str) -> ArgumentError:
        return ArgumentError(f"One series has no {what}: ask several by vector_autoregression.")

    def responses(self, *args: Any, **kwargs: Any) -> Any:
        """Refuse: there is no past that shocks go on through."""
        raise self._refused("responses")

    def shares(self, *args: Any, **kwargs: Any) -> Any:
        """Refuse: there is one kind of shock."""
        raise self._refused("shares of shocks")

    def stability(self) -> pd.DataFrame:
        """Refuse: there is no past that the series leans on."""
        raise self._refused("roots")

    def _numbers(self) -> dict[str, np.ndarray]:
        model, shape = self.study.parts, self.posterior.draws.shape
        made = model.data
        numbers: dict[str, np.ndarray] = {}
        for r, part in enumerate(model.owner):
            if part is not None and part.kind == "season":
                continue
            values = self._every[:, self.place(None), 0, r].reshape(shape)
            when = f" at {made.labels[-1]}" if model.step_scale[0, r] > 0 else ""
            name = "level" if r == 0 else f"slope of {made.terms[r]}"
            numbers[f"{name}{when}"] = values
        numbers[f"noise{self._errors_when}"] = self.sizes[:, -1, 0].reshape(shape)
        return numbers

    def _one_sided(self) -> tuple[str, ...]:
        return (f"noise{self._errors_when}",)

    def _cautions(self) -> tuple[Any, ...]:
        return ()

    def _sentences(self) -> tuple[str, ...]:
        model = self.study.parts
        made, labels = model.data, model.data.labels
        lines = []
        drawn = self.part_draws()
        for part in model.parts:
            draws = drawn[part.name]
            if part.kind == "level":
                change = draws[:, -1] - draws[:, 0]
                lines.append(
                    f"Level: {self._size(draws[:, -1])} at {labels[-1]}, a change of "
                    f"{self._size(change)} since {labels[0]}."
                )
                if part.breaks and made.count > 1:
                    lines.append(self._break_words())
            elif part.kind == "season":
                lines.append(self._season_words(part.name, draws, part.period))
            else:
                slope = self._every[:, self.place(None), 0, made.terms.index(part.name)]
                up = float((slope > 0).mean())
                way = "positive" if up >= 0.5 else "negative"
                when = f" at {labels[-1]}" if part.drifts else ""
                what = "a step" if part.kind == "trend" else "one more of it"
                lines.append(
                    f"`{visible(part.name)}`{when}: {self._size(slope)} for {what}, {way} with "
                    f"probability {chance_text(max(up, 1 - up), len(slope))}."
                )
        if model.changes:
            lines.append(self._drift_words())
        if model.errors_drift:
            lines += self._error_words()
        lines.append(
            "Not asked: what causes what. Forecasts rest on nothing else changing; a level that "
            "drifts takes up what no other part explains."
        )
        return tuple(lines)

    def _coefficient_words(self, series: str, term: str) -> str:
        return "the sd of the noise" if term == ERROR else f"`{visible(term)}`"

    def _break_words(self) -> str:
        first = self.breaks().iloc[0]
        time, chance = first.name, float(first.iloc[3])
        place = self.study.parts.data.labels.index(str(time))
        step = self.path(0, 0)[:, place] - self.path(0, 0)[:, place - 1]
        if chance < _CLEAR:
            return (
                f"No time stands out as a break: the largest step of the level is at {time} with "
                f"probability {chance:.2g} only. breaks() has all."
            )
        return (
            f"Largest step of the level: {self._size(step)} at {time}, with probability "
            f"{chance_text(chance, len(step))} that it is the largest of all. breaks() has all."
        )

    def _size(self, values: np.ndarray) -> str:
        return size_words(values, self.level, self.kind)

    def _season_words(self, name: str, draws: np.ndarray, period: float) -> str:
        last = draws[:, -math.ceil(period) :]
        labels = self.study.parts.data.labels[-math.ceil(period) :]
        middle = np.median(last, axis=0)
        swing = last.max(axis=1) - last.min(axis=1)
        inside = self.season_level(name)
        if inside < self.level:
            return (
                f"{name}: none that comes again is shown: 0 lies inside the "
                f"{100 * self.level:g} % region of its waves, averaged over all times. What it "
                "takes up here may be noise; try the series without it."
            )
        return (
            f"{name}: from lowest to highest {self._size(swing)} in the last round; highest at "
            f"{labels[int(np.argmax(middle))]}, lowest at {labels[int(np.argmin(middle))]}. Its "
            f"waves averaged over all times are away from 0: the {100 * self.level:g} % region "
            "leaves 0 out."
        )

    def season_level(self, name: str) -> float:
        """Return the share of draws of a season's waves that are more probable than none.

        Waves are averaged over all times; regions are ellipses around their mean. A swing from
        lowest to highest is above 0 for noise too, and says nothing of whether there is a season.

        Raises
        ------
        ArgumentError
            For what is no season among the parts.
        """
        model = self.study.parts
        own = [r for r, one in enumerate(model.owner) if one is not None and one.name == name]
        if not own or model.owner[own[0]].kind != "season":  # type: ignore[union-attr]
            raise ArgumentError(f"There is no season `{name}` among the parts.")
        waves = np.stack([self.path(0, r).mean(axis=1) for r in own], axis=1)
        middle = waves.mean(axis=0)
        root = np.linalg.cholesky(np.atleast_2d(np.cov(waves.T)))
        away = np.linalg.norm(np.linalg.solve(root, (waves - middle).T), axis=0)
        return float((away < np.linalg.norm(np.linalg.solve(root, middle))).mean())

    @property
    def record(self) -> dict[str, Any]:
        """All of it as plain values."""
        base = super(AutoregressionFindings, self).record
        return {**base, "parts": [part.name for part in self.study.parts.parts]}
