"""What a vector autoregression found."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from millwright.diagnostics.finding import Finding
from millwright.draws.intervals import interval, kind_words
from millwright.draws.numbers import chance_text
from millwright.errors import ArgumentError, nearest
from millwright.studies.autoregression_ahead import Forecast, forecast_of
from millwright.studies.autoregression_drifts import ERROR, drifts_of, factors_of_standing_still
from millwright.studies.autoregression_model import covariances
from millwright.studies.autoregression_paths import largest_roots
from millwright.studies.autoregression_responses import Responses, Shares, responses_of, shares_of
from millwright.studies.findings import Findings
from millwright.studies.sentences import size_words
from millwright.wording import visible

if TYPE_CHECKING:
    from millwright.studies.autoregression_study import AutoregressionStudy

__all__ = ["AutoregressionFindings"]

_MOST = 2000
_MOST_SENTENCES = 10
_SURE = 0.975
_UNSTABLE = 0.1


@dataclass(frozen=True, eq=False, kw_only=True)
class AutoregressionFindings(Findings):
    """The answer of a study of several series.

    Drifting coefficients are asked for at a time by its label; without one at the last.
    """

    study: AutoregressionStudy

    @cached_property
    def _every(self) -> np.ndarray:
        """Coefficients, (draws, times or 1, n, terms)."""
        return self.study.parts.coefficients(self.posterior.draws)

    @cached_property
    def some(self) -> slice:
        """Draws that responses and forecasts are computed of: at most 2000, in even steps."""
        return slice(None, None, max(1, -(-len(self._every) // _MOST)))

    def path(self, j: int, r: int) -> np.ndarray:
        """Return draws of a coefficient at each time, (draws, times or 1)."""
        return self._every[:, :, j, r]

    def at(self, at: Any) -> np.ndarray:
        """Return coefficients at a time, (draws, n, terms)."""
        return self._every[self.some, self.place(at)]

    def covariance_at(self, at: Any) -> np.ndarray:
        """Return covariances of errors at a time, (draws, n, n)."""
        place = self._time(at) if self.study.parts.errors_drift else 0
        return covariances(self.rows[self.some], self.sizes[self.some, place])

    def time_label(self, at: Any) -> str:
        """Return the label of a time; `all` where nothing drifts."""
        place = self._time(at)
        return self.study.parts.data.labels[place] if self.study.parts.changes else "all"

    @cached_property
    def rows(self) -> np.ndarray:
        """What makes errors independent, (draws, n, n)."""
        return self.study.parts.rows(self.posterior.draws)

    @cached_property
    def sizes(self) -> np.ndarray:
        """Sds of each error given those before it, (draws, times or 1, n)."""
        return self.study.parts.sizes(self.posterior.draws)

    @cached_property
    def error_sds(self) -> np.ndarray:
        """Sds of the errors of each series, (draws, times or 1, n)."""
        unit = np.linalg.inv(self.rows)
        return np.sqrt(np.einsum("dij,dtj->dti", unit**2, self.sizes**2))

    def place(self, at: Any) -> int:
        """Return the place of a time among coefficients; None is the last.

        Raises
        ------
        ArgumentError
            For a time that is not there.
        """
        place = self._time(at)
        return place if self.study.parts.drifts else 0

    def _time(self, at: Any) -> int:
        labels = self.study.parts.data.labels
        if at is not None and str(at) not in labels:
            raise ArgumentError(
                f"There is no time {at!r}.{nearest(str(at), labels)} They run from {labels[0]} to "
                f"{labels[-1]}."
            )
        return len(labels) - 1 if at is None else labels.index(str(at))

    def coefficients(self, at: Any = None, every: bool = False) -> pd.DataFrame:
        """Summarise the coefficients.

        Parameters
        ----------
        at
            The time; by default the last.
        every
            Whether to give all times, one row each.

        Returns
        -------
        One row a series, term and time: median, interval, probability of being above 0, and the
        classical estimate, least squares equation by equation with constant coefficients. `level`
        is for all at their means.

        Raises
        ------
        ArgumentError
            For a time that is not there.
        """
        made = self.study.parts.data
        classical, error = made.classical
        places = range(self._every.shape[1]) if every else [self.place(at)]
        words = kind_words(self.kind, self.level)
        labels = made.labels if self.study.parts.drifts else ("all",)
        frames = []
        for place in places:
            values = self._every[:, place]
            low, high = interval(values, self.level, self.kind)
            n, terms = low.shape
            frames.append(
                pd.DataFrame(
                    {
                        "series": np.repeat(made.series, terms),
                        "term": np.tile(np.array(made.terms, dtype=object), n),
                        "time": labels[place],
                        "median": np.median(values, axis=0).reshape(-1),
                        f"{words}, from": low.reshape(-1),
                        f"{words}, to": high.reshape(-1),
                        "probability above 0": (values > 0).mean(axis=0).reshape(-1),
                        "least squares": classical.reshape(-1),
                        "its error": error.reshape(-1),
                    }
                )
            )
        return pd.concat(frames).set_index(["series", "term", "time"])

    def error_spread(self, at: Any = None, every: bool = False) -> pd.DataFrame:
        """Summarise the sds of errors: what the past leaves unexplained.

        Parameters
        ----------
        at
            The time; by default the last.
        every
            Whether to give all times, one row each.

        Returns
        -------
        One row a series and time: median and interval of the sd.

        Raises
        ------
        ArgumentError
            For a time that is not there.
        """
        parts = self.study.parts
        place = self._time(at) if parts.errors_drift else 0
        places = range(self.error_sds.shape[1]) if every else [place]
        labels = parts.data.labels if parts.errors_drift else ("all",)
        words = kind_words(self.kind, self.level)
        frames = []
        for one in places:
            values = self.error_sds[:, one]
            low, high = interval(values, self.level, self.kind)
            table = {"median sd of errors": np.median(values, axis=0), f"{words}, from": low}
            names = {"series": parts.data.series, "time": labels[one]}
            frames.append(pd.DataFrame({**names, **table, f"{words}, to": high}))
        return pd.concat(frames).set_index(["series", "time"])

    @cached_property
    def still(self) -> np.ndarray:
        """Log Bayes factors for what never moves, and their errors, (2, n, terms + 1).

        The last of each series is the sd of its errors.
        """
        return factors_of_standing_still(self)

    def drifts(self) -> pd.DataFrame:
        """Say how far each coefficient moves, and whether it moves at all.

        Returns
        -------
        One row a series and term that may drift, `log sd of errors` among them: median and
        interval of the sd of a step; of the distance between the smallest and the largest value;
        the log Bayes factor for moving over standing still, by the density ratio at a sd of 0
        (Dickey 1971; Fruehwirth-Schnatter and Wagner 2010), with its error; and in words. It
        compares these priors of steps.

        Raises
        ------
        ArgumentError
            If nothing drifts.
        """
        return drifts_of(self)

    def stability(self) -> pd.DataFrame:
        """Say how stable the system is at each time.

        Returns
        -------
        One row a time: median of the largest modulus of its roots, and the probability that it is
        below 1, so that shocks die out.
        """
        made = self.study.parts.data
        roots = largest_roots(self._every[self.some], made.lags)
        labels = list(made.labels) if self.study.parts.drifts else ["all"]
        return pd.DataFrame(
            {
                "median largest root": np.median(roots, axis=0),
                "probability below 1": (roots < 1).mean(axis=0),
            },
            index=pd.Index(labels, name="time"),
        )

    def responses(
        self,
        at: Any = None,
        *,
        horizon: int = 12,
        order: Sequence[str] | None = None,
        form: str = "ordered",
        shock: str = "sd",
        cumulated: bool = False,
    ) -> Responses:
        """Say how all series answer to a shock of each, coefficients held as at a time.

        Parameters
        ----------
        at
            The time, or a list of several; by default the last.
        horizon
            How many steps ahead.
        order
            The series in the order in which shocks work at once: each moves those after it
            (Sims 1980); by default as they were given.
        form
            `ordered`, or `generalised` (Pesaran and Shin 1998), which needs no order.
        shock
            `sd`: of one sd of its errors. `unit`: of 1 in its series.
        cumulated
            Whether answers are added up over steps.

        Returns
        -------
        The responses, with `.table()`.

        Raises
        ------
        ArgumentError
            For a time that is not there, an order that leaves a series out, or another form.
        """
        return responses_of(self, at, horizon, order, form, shock, cumulated)

    def shares(
        self, at: Any = None, *, horizon: int = 12, order: Sequence[str] | None = None
    ) -> Shares:
        """Say which share of each series' forecast variance comes from the shocks of which.

        Parameters
        ----------
        at, horizon, order
            As for `responses`.

        Returns
        -------
        The shares, with `.table()`.

        Raises
        ------
        ArgumentError
            As `responses`.
        """
        return shares_of(self, at, horizon, order)

    def forecast(
        self,
        horizon: int = 12,
        *,
        drift: str = "on",
        given: Mapping[str, Sequence[float | None]] | None = None,
        others: Mapping[str, Sequence[float]] | None = None,
        seed: int = 0,
    ) -> Forecast:
        """Draw the steps after the last time.

        Parameters
        ----------
        horizon
            How many steps.
        drift
            `on`: coefficients go on drifting. `off`: they stay as they are at the end.
        given
            Paths that are stated: readings of some series by name, None where nothing is; the
            others are drawn given all of them, with coefficients as drawn without them.
        others
            Of further columns, or those among the parts of one series, their values at each step.
        seed
            Any whole number from 0.

        Returns
        -------
        The forecast, with `.table()` and `.score(truth)`.

        Raises
        ------
        ArgumentError
            For settings that make no sense, or values that are missing.
        """
        return forecast_of(self, horizon, drift, given or {}, others or {}, seed)

    def _numbers(self) -> dict[str, np.ndarray]:
        parts, draws = self.study.parts, self.posterior.draws
        made, shape = parts.data, draws.shape
        covariance = covariances(self.rows, self.sizes[:, -1])
        spread = np.sqrt(np.einsum("djj->dj", covariance))
        place = self.place(None)
        when = f" at {made.labels[-1]}" if parts.drifts else ""
        numbers: dict[str, np.ndarray] = {}
        for j, series in enumerate(made.series):
            for r, term in enumerate(made.terms):
                values = self._every[:, place, j, r].reshape(shape)
                numbers[f"{series}: {term}{when}"] = values
        when = self._errors_when
        for j, series in enumerate(made.series):
            numbers[f"error sd of {series}{when}"] = spread[:, j].reshape(shape)
            for i in range(j):
                tie = covariance[:, i, j] / (spread[:, i] * spread[:, j])
                name = f"error correlation of {made.series[i]}, {series}{when}"
                numbers[name] = tie.reshape(shape)
        return numbers

    @property
    def _errors_when(self) -> str:
        parts = self.study.parts
        return f" at {parts.data.labels[-1]}" if parts.errors_drift else ""

    def _one_sided(self) -> tuple[str, ...]:
        when = self._errors_when
        return tuple(f"error sd of {series}{when}" for series in self.study.parts.data.series)

    @cached_property
    def _stable(self) -> float:
        roots = largest_roots(self.at(None), self.study.parts.data.lags)
        return float((roots < 1).mean())

    def _cautions(self) -> tuple[Finding, ...]:
        if 1 - self._stable < _UNSTABLE:
            return ()
        return (
            Finding(
                "note",
                f"The system grows without end in {100 * (1 - self._stable):.0f} % of draws at "
                "the last time: its largest root is 1 or more, so responses do not die out there "
                "and forecasts widen without end.",
                "Look at stability(). Model changes from time to time in place of the series "
                "themselves, or give first_lag=0 or a smaller tightness.",
                of_data=True,
            ),
        )

    def _sentences(self) -> tuple[str, ...]:
        parts = self.study.parts
        made, place = parts.data, self.place(None)
        values = self._every[:, place]
        when = f" (at {made.labels[-1]})" if parts.drifts else ""
        found = []
        for j, series in enumerate(made.series):
            for r, term in enumerate(made.terms):
                if r == 0:
                    continue
                draws = values[:, j, r]
                up = float((draws > 0).mean())
                sure = max(up, 1 - up)
                if sure >= _SURE:
                    found.append((abs(float(np.mean(draws) / np.std(draws))), series, term, draws))
        found.sort(key=lambda one: -one[0])
        lines = [
            f"`{visible(series)}` leans on `{visible(term)}`{when}: "
            f"{size_words(draws, self.level, self.kind)} for one more of it, with probability "
            f"{chance_text(max((draws > 0).mean(), (draws < 0).mean()), len(draws))} of its sign."
            for _, series, term, draws in found[:_MOST_SENTENCES]
        ]
        if len(found) > _MOST_SENTENCES:
            lines.append(f"... and {len(found) - _MOST_SENTENCES} slopes more in coefficients().")
        if not found:
            lines.append(f"No slope has a sign with probability {_SURE} or more{when}.")
        if parts.changes:
            lines.append(self._drift_words())
        if parts.errors_drift:
            lines += self._error_words()
        chance = chance_text(self._stable, len(self.at(None)))
        lines.append(f"Stable{when} with probability {chance}: shocks die out.")
        lines.append(
            "Not asked: what causes what. Responses rest on the order of shocks; forecasts on "
            "nothing else changing."
        )
        return tuple(lines)

    def _drift_words(self) -> str:
        table = self.drifts()["log Bayes factor of moving"].astype(float)
        moving = table[table > np.log(3)].sort_values(ascending=False)
        still = int((table < -np.log(3)).sum())
        named = "; ".join(
            self._coefficient_words(series, term) for series, term in moving.index[:4]
        )
        more = f" and {len(moving) - 4} more" * (len(moving) > 4)
        told = f"these move: {named}{more}" if len(moving) else "none moves"
        open_ones = len(table) - len(moving) - still
        what = "coefficients" + " and sds of errors" * self.study.parts.errors_drift
        return (
            f"Of {len(table)} {what} that may drift, by odds of 3 to 1 or more, {told}; "
            f"{still} stand{'s' * (still == 1)} still; of {open_ones} the data say little. "
            "drifts() has all."
        )

    def _error_words(self) -> list[str]:
        """Return for each series when its errors are widest and narrowest."""
        made, found = self.study.parts.data, []
        for j, series in enumerate(made.series):
            draws = self.error_sds[:, :, j]
            middle = np.median(draws, axis=0)
            low, high = int(np.argmin(middle)), int(np.argmax(middle))
            times = draws[:, high] / draws[:, low]
            found.append(
                f"Errors of `{visible(series)}`: sd {middle[low]:.3g} where it is least "
                f"({made.labels[low]}), {middle[high]:.3g} where it is largest "
                f"({made.labels[high]}); the ratio {size_words(times, self.level, self.kind)}."
            )
        return found

    def _coefficient_words(self, series: str, term: str) -> str:
        if term == ERROR:
            return f"the sd of errors of `{visible(series)}`"
        return f"`{visible(series)}` on `{visible(term)}`"

    @property
    def record(self) -> dict[str, Any]:
        """All of it as plain values."""
        found = self.coefficients().reset_index()
        return {
            **super().record,
            "coefficients": [
                {
                    "series": row["series"],
                    "term": row["term"],
                    "time": row["time"],
                    "median": float(row["median"]),
                    "interval_low": float(row.iloc[4]),
                    "interval_high": float(row.iloc[5]),
                    "least_squares": float(row["least squares"]),
                }
                for _, row in found.iterrows()
            ],
            "stable": self._stable,
        }
