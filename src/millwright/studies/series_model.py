"""A series made of parts: its regression on waves and columns, with coefficients that drift."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from millwright.studies.autoregression_model import Autoregression
from millwright.studies.scales import rounded_middle, rounded_spread
from millwright.studies.series_parts import Part, waves

__all__ = ["BREAK_FREEDOM", "SeriesModel"]

BREAK_FREEDOM = 3.0
"""Degrees of freedom of steps that may jump."""


@dataclass(frozen=True, kw_only=True)
class SeriesModel(Autoregression):
    """A series as the sum of parts.

    A season whose waves drift is the stochastic trigonometric season (Harvey 1989, section 2.3.4):
    turning its states back by the angle of each time makes them random walks.

    Attributes
    ----------
    parts
        What it is the sum of, in order.
    """

    parts: tuple[Part, ...]

    @cached_property
    def owner(self) -> tuple[Part | None, ...]:
        """The part of each term; None for a level that is no part of its own."""
        of = {term: part for part in self.parts for term in part.terms}
        level = next((part for part in self.parts if part.kind == "level"), None)
        return (level, *(of[term] for term in self.data.terms[1:]))

    @cached_property
    def start(self) -> tuple[np.ndarray, np.ndarray]:
        """Prior means and sds of coefficients before the first step, (1, terms)."""
        made = self.data
        spread = float(np.nanstd(made.values, ddof=1))
        other = made.frame[list(made.others)].to_numpy(float).std(axis=0, ddof=1)
        mean = np.zeros((1, len(made.terms)))
        mean[0, 0] = rounded_middle(float(made.middle[0]), spread)
        sd = np.concatenate([[2 * spread], 2 * spread / other])[None]
        return mean, np.vectorize(rounded_spread)(sd)

    @cached_property
    def step_scale(self) -> np.ndarray:
        """Scales of the half-normal priors of the sds of steps, (1, terms)."""
        made, drift = self.data, self.rules.drift
        values = made.filled[:, 0]
        spread = float(np.nanstd(made.values, ddof=1))
        changes = float(np.diff(values).std(ddof=1))
        scale = np.zeros((1, len(made.terms)))
        for r, part in enumerate(self.owner):
            if part is None or not part.drifts:
                continue
            if part.kind == "level":
                # A walk that made all of the series would step as the series changes.
                scale[0, r] = 2 * drift * changes
                continue
            sd = float(made.frame[made.others[r - 1]].std(ddof=1))
            scale[0, r] = drift * spread / sd / np.sqrt(made.count)
        return np.vectorize(lambda one: rounded_spread(one) if one > 0 else 0.0)(scale)

    @cached_property
    def step_freedom(self) -> np.ndarray:
        """Degrees of freedom of steps, (1, terms); infinite for normal ones."""
        found = [BREAK_FREEDOM if part and part.breaks else np.inf for part in self.owner]
        return np.array([found])

    @cached_property
    def size_start(self) -> np.ndarray:
        """Prior mean of the noise's log sd before the first step, (1,); its sd is 1."""
        changes = np.diff(self.data.filled[:, 0])
        return np.round(np.log(0.5 * changes.std(ddof=1))[None], 2)

    @cached_property
    def scatter(self) -> np.ndarray:
        """Twice the scale of the inverse-gamma prior of the noise's variance, (1,).

        Small, so that it neither keeps a small noise out nor adds to it.
        """
        changes = np.diff(self.data.filled[:, 0])
        return np.array([rounded_spread(float(0.05 * changes.var(ddof=1)))])

    @property
    def words(self) -> tuple[str, str]:
        """Title and notes of the model."""
        made = self.data
        told = "; ".join(f"other_{at} is {name}" for at, name in enumerate(made.others, 1))
        title = f"{made.series[0]}: {' + '.join(part.name for part in self.parts)}"
        return title, f"Around their means: {told}." if told else ""

    def later(self, others: np.ndarray, steps: int) -> np.ndarray:
        """Return columns of the steps to come, (steps, columns), from those of real columns."""
        made = self.data
        places = len(made.frame) + np.arange(steps)
        found, at = [], 0
        for part in self.parts:
            if part.kind == "season":
                found.append(waves(part.period, part.waves, places))
            elif part.kind == "trend":
                found.append(places[:, None].astype(float))
            elif part.kind == "column":
                found.append(others[:, at : at + 1])
                at += 1
        return np.concatenate(found, axis=1) if found else np.zeros((steps, 0))
