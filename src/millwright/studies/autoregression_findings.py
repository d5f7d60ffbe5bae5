"""What a vector autoregression found."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
from scipy.special import logsumexp

from millwright.diagnostics.finding import Finding
from millwright.draws.intervals import interval, kind_words
from millwright.draws.numbers import chance_text
from millwright.errors import ArgumentError, nearest
from millwright.evidence.bayes_factor import factor_words
from millwright.sampling.streams import Stream, generator_of
from millwright.studies.autoregression_ahead import Forecast, forecast_of
from millwright.studies.autoregression_paths import largest_roots
from millwright.studies.autoregression_responses import Responses, Shares, responses_of, shares_of
from millwright.studies.findings import Findings
from millwright.studies.sentences import size_words
from millwright.sweeps.chain import standing_still
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

    @property
    def errors(self) -> np.ndarray:
        """Covariances of errors, (draws, n, n)."""
        return self._covariance[self.some]

    def time_label(self, at: Any) -> str:
        """Return the label of a time; of constant coefficients `all`."""
        place = self.place(at)
        return self.study.parts.data.labels[place] if self.study.parts.drifts else "all"

    @cached_property
    def _covariance(self) -> np.ndarray:
        return self.study.parts.covariance(self.posterior.draws)

    def place(self, at: Any) -> int:
        """Return the place of a time among coefficients; None is the last.

        Raises
        ------
        ArgumentError
            For a time that is not there.
        """
        labels = self.study.parts.data.labels
        if at is not None and str(at) not in labels:
            raise ArgumentError(
                f"There is no time {at!r}.{nearest(str(at), labels)} They run from {labels[0]} to "
                f"{labels[-1]}."
            )
        if not self.study.parts.drifts:
            return 0
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

    @cached_property
    def _still(self) -> np.ndarray:
        """Log Bayes factors for coefficients that never move, (n, terms), and their errors."""
        parts = self.study.parts
        kept = parts.kept(self.posterior.draws)
        logs = standing_still(parts.problem, kept, generator_of(0, Stream.SWEEPS))
        chains = self.posterior.draws.shape[0]
        total = logsumexp(logs, axis=0) - np.log(len(logs))
        # The error over chains' halves: draws of a chain follow each other.
        halves = np.exp(logs - total).reshape(chains * 2, -1, logs.shape[1]).mean(axis=1)
        error = halves.std(axis=0, ddof=1) / np.sqrt(chains * 2)
        return np.stack([total, error]).reshape(2, *parts.size)

    def drifts(self) -> pd.DataFrame:
        """Say how far each coefficient moves, and whether it moves at all.

        Returns
        -------
        One row a series and term that may drift: median and interval of the sd of a step; of the
        distance between the smallest and the largest value; the log Bayes factor for moving over
        standing still, by the density ratio at a sd of 0 (Dickey 1971; Fruehwirth-Schnatter and
        Wagner 2010), with its error; and in words. It compares these priors of steps.

        Raises
        ------
        ArgumentError
            If no coefficient drifts.
        """
        parts, draws = self.study.parts, self.posterior.draws
        if not parts.drifts:
            raise ArgumentError("No coefficient drifts here: give `drift` above 0.")
        words = kind_words(self.kind, self.level)
        logs, errors = self._still
        rows = {}
        for j, series in enumerate(parts.data.series):
            for r, term in enumerate(parts.data.terms):
                if parts.step_scale[j, r] == 0:
                    continue
                step = draws.get(f"{parts.name(j, r)}_drift").reshape(-1)
                low, high = interval(step, self.level, self.kind)
                path = self.path(j, r)
                log = -float(logs[j, r])
                rows[series, term] = {
                    "median sd of a step": np.median(step),
                    f"{words}, from": float(low),
                    f"{words}, to": float(high),
                    "median range over all times": float(np.median(np.ptp(path, axis=1))),
                    "log Bayes factor of moving": log,
                    "its error": float(errors[j, r]),
                    "in words": _words(log),
                }
        return pd.DataFrame(rows).T.rename_axis(["series", "term"])

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
        spread = np.sqrt(np.einsum("djj->dj", self._covariance))
        place = self.place(None)
        when = f" at {made.labels[-1]}" if parts.drifts else ""
        numbers: dict[str, np.ndarray] = {}
        for j, series in enumerate(made.series):
            for r, term in enumerate(made.terms):
                values = self._every[:, place, j, r].reshape(shape)
                numbers[f"{series}: {term}{when}"] = values
        for j, series in enumerate(made.series):
            numbers[f"error sd of {series}"] = spread[:, j].reshape(shape)
            for i in range(j):
                tie = self._covariance[:, i, j] / (spread[:, i] * spread[:, j])
                numbers[f"error correlation of {made.series[i]}, {series}"] = tie.reshape(shape)
        return numbers

    def _one_sided(self) -> tuple[str, ...]:
        return tuple(f"error sd of {series}" for series in self.study.parts.data.series)

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
        if parts.drifts:
            lines.append(self._drift_words())
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
        return (
            f"Of {len(table)} coefficients that may drift, by odds of 3 to 1 or more, {told}; "
            f"{still} stand still; of {open_ones} the data say little. drifts() has all."
        )

    def _coefficient_words(self, series: str, term: str) -> str:
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


def _words(log: float) -> str:
    """Return a Bayes factor of moving in words."""
    if log >= 0:
        return factor_words(log, "moving")
    return factor_words(-log, "standing still")
