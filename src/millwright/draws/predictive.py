"""Replications of the data against the data observed."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd

from millwright.checks import check_mapping
from millwright.display import Shown, frame_text
from millwright.draws.conditioning import joint_outcomes
from millwright.draws.conflict import conflicts
from millwright.draws.intervals import interval
from millwright.draws.labelled_draws import Draws, thinned
from millwright.draws.latent import replicate_around
from millwright.draws.numbers import decimals_of, fixed, probability_text
from millwright.draws.outcomes import labels_of_outcome, numbers_of_outcome
from millwright.errors import ArgumentError
from millwright.modelling.complete_data import passed_over
from millwright.modelling.missing import without_gaps
from millwright.modelling.simulate import draw_outcomes
from millwright.modelling.units import with_unit

__all__ = ["PredictiveCheck", "Statistic", "check_against"]

Statistic = Callable[..., Any]

_STATISTICS: dict[str, Statistic] = {
    "mean": np.mean,
    "sd": lambda x, axis: np.std(x, axis=axis, ddof=1),
    "minimum": np.min,
    "median": np.median,
    "maximum": np.max,
}


@dataclass(frozen=True, kw_only=True)
class PredictiveCheck(Shown):
    """Replicated data sets against the observed one.

    Attributes
    ----------
    observed
        Observed values of each outcome, shape (rows,); a vector has an entry for each of its
        labels, and labels are held as positions.
    replicated
        Replications of each outcome, shape (draws, rows).
    labels
        Labels of the outcomes that are labels.
    columns
        For each outcome, the data columns with one value a row that the model uses.
    own
        Statistics of the user's, by name: functions of one data set's values.
    conflicts
        Where prior and data disagree, in words.
    units
        Units of quantities and columns, by name.
    verdict
        That of the fit.
    """

    observed: Mapping[str, np.ndarray] = field(repr=False)
    replicated: Mapping[str, np.ndarray] = field(repr=False)
    labels: Mapping[str, tuple[Any, ...]] = field(default_factory=dict, repr=False)
    columns: Mapping[str, Mapping[str, np.ndarray]] = field(default_factory=dict, repr=False)
    own: Mapping[str, Statistic] = field(default_factory=dict, repr=False)
    conflicts: tuple[str, ...] = ()
    units: Mapping[str, str] = field(default_factory=dict, repr=False)
    verdict: Any = field(default=None, repr=False)

    def with_unit(self, name: str) -> str:
        """Return a name with its unit in brackets, if it has one."""
        return with_unit(self.units, name)

    def outcome(self, name: str | None) -> str:
        """Return the name of an outcome, or of the first.

        Raises
        ------
        ArgumentError
            If there is no such outcome.
        """
        chosen = next(iter(self.observed)) if name is None else name
        if not isinstance(chosen, str) or chosen not in self.observed:
            raise ArgumentError(f"There is no outcome `{name}`: {', '.join(self.observed)}.")
        return chosen

    def statistics(self, outcome: str) -> dict[str, Statistic]:
        """Return what is compared: functions of values and an axis, by name."""
        usual = dict(_STATISTICS)
        if np.shape(self.observed[outcome])[0] < 2:
            del usual["sd"]  # one row has no spread
        if outcome in self.labels:
            usual = {
                f"share of {label}": lambda x, axis, at=at: np.mean(np.asarray(x) == at, axis=axis)
                for at, label in enumerate(self.labels[outcome])
            }
        return {**usual, **{name: _along(name, own) for name, own in self.own.items()}}

    def table(self) -> pd.DataFrame:
        """Return each statistic: observed, in replications, and its tail probability.

        The tail probability is the share of replications with a larger statistic, ties
        counting half (Gelman, Meng and Stern 1996). Near 0 or 1 the model does not reproduce
        that side of the data; around 0.5 it does.
        """
        rows = []
        for outcome, seen in self.observed.items():
            for name, statistic in self.statistics(outcome).items():
                if name == "sd" and seen.size < 2:
                    continue
                value = float(statistic(seen, axis=0))
                copies = statistic(self.replicated[outcome], axis=1)
                low, high = interval(copies, 0.95)
                larger = np.mean(copies > value) + 0.5 * np.mean(copies == value)
                rows.append((outcome, name, value, float(low), float(high), float(larger)))
        columns = [
            "outcome",
            "statistic",
            "observed",
            "replicated 95 %, from",
            "replicated 95 %, to",
            "share of replications above",
        ]
        return pd.DataFrame(rows, columns=columns).set_index(["outcome", "statistic"])

    def residuals(self, outcome: str | None = None) -> pd.DataFrame:
        """Return, for each row, what the model leaves unexplained.

        Parameters
        ----------
        outcome
            Which outcome, if there are several; not one of labels.

        Returns
        -------
        One row a data row: observed, expected (mean of the replications), residual (observed
        minus expected), residual in standard deviations of the replications, and the share of
        replications above (ties counting half).

        Raises
        ------
        ArgumentError
            For an outcome of labels, or one that is not there.
        """
        name = self.outcome(outcome)
        if name in self.labels:
            raise ArgumentError(f"`{name}` is an outcome of labels, which have no residuals.")
        seen, copies = self.observed[name], self.replicated[name]
        expected, sd = copies.mean(axis=0), copies.std(axis=0, ddof=1)
        above = (copies > seen).mean(axis=0) + 0.5 * (copies == seen).mean(axis=0)
        with np.errstate(divide="ignore", invalid="ignore"):
            return pd.DataFrame(
                {
                    "observed": seen,
                    "expected": expected,
                    "residual": seen - expected,
                    "residual, sds": (seen - expected) / sd,
                    "share of replications above": above,
                },
                index=pd.RangeIndex(1, len(seen) + 1, name="row"),
            )

    def __str__(self) -> str:
        table = self.table()
        shares = table["share of replications above"]
        size = len(next(iter(self.replicated.values())))
        rows = [_row_text(*map(float, row)) for row in table.iloc[:, :3].to_numpy()]
        shown = pd.DataFrame(
            {
                "observed": [seen for seen, _ in rows],
                "replicated, 95 % central interval": [interval for _, interval in rows],
                "share of replications above": [probability_text(p, size) for p in shares],
            },
            index=table.index,
        )
        return "\n".join([self._verdict(table), *self.conflicts, frame_text(shown)])

    def _verdict(self, table: pd.DataFrame) -> str:
        shares = table["share of replications above"]
        odd = table.index[(shares < 0.025) | (shares > 0.975)]
        if not len(odd):
            return (
                "Predictive check: the model reproduces the centre, spread and extremes of its "
                "data (all shares between 0.025 and 0.975)."
            )
        named = ", ".join(f"{statistic} of `{outcome}`" for outcome, statistic in odd)
        advice = [self._spread(outcome, shares) for outcome in dict.fromkeys(o for o, _ in odd)]
        return " ".join(
            [
                f"Predictive check: the model does NOT reproduce the {named}: the share of "
                "replications above the observed value is below 0.025 or above 0.975.",
                *filter(None, advice),
                "Think of another likelihood family, or of a predictor that is missing.",
            ]
        )

    def _spread(self, outcome: str, shares: pd.Series) -> str:
        """Say whether an outcome spreads more or less than the model lets it."""
        if outcome in self.labels or (outcome, "sd") not in shares.index:
            return ""
        share = float(shares.loc[(outcome, "sd")])
        counts = bool((self.observed[outcome] == np.floor(self.observed[outcome])).all())
        if share < 0.025:
            wider = "negative_binomial or beta_binomial" if counts else "student_t"
            return f"`{outcome}` spreads MORE than the family allows: {wider} can."
        if share > 0.975:
            return f"`{outcome}` spreads LESS than the model expects."
        return f"The spread of `{outcome}` is right, its shape is not."


def _along(name: str, own: Statistic) -> Statistic:
    """Return a user's statistic of one data set as a function of values and an axis."""

    def statistic(values: np.ndarray, axis: int) -> Any:
        try:
            found = np.apply_along_axis(own, axis, np.asarray(values))
            return np.asarray(found, dtype=float)
        except Exception as error:
            raise ArgumentError(
                f"The statistic `{name}` failed on a data set ({type(error).__name__}: {error}). "
                "It must take the values of one outcome, an array with one number a row, and "
                "return one number."
            ) from error

    return statistic


def check_against(
    draws: Draws,
    generator: np.random.Generator,
    most: int,
    own: Mapping[str, Statistic] | None = None,
) -> PredictiveCheck:
    """Replicate the data once for each of at most `most` draws, spread over all chains."""
    binding = draws.binding
    own = check_mapping("statistics", own)
    for name, statistic in own.items():
        if not callable(statistic):
            raise ArgumentError(f"`statistics`: `{name}` must be a function, not {statistic!r}.")
    keep = thinned(draws, most)
    evaluation = draws.evaluation(keep=keep)
    size = len(evaluation.values[binding.program.unknowns[0].name].values)
    found = {p.name: replicate_around(draws, p, keep, generator) for p in joint_outcomes(binding)}
    around = {name: copies for name, copies in found.items() if copies is not None}
    copies = around | draw_outcomes(binding, size, generator, evaluation, tuple(around))
    observed: dict[str, np.ndarray] = {}
    replicated: dict[str, np.ndarray] = {}
    columns: dict[str, dict[str, np.ndarray]] = {}
    labels = {}
    for part in binding.program.outcomes:
        seen = np.asarray(binding.arguments["observed", part.name])
        again = copies[part.name]
        beside = _beside(draws, part.name)
        if part.name in binding.program.filled:
            gaps = binding.arguments["gaps", part.name]
            seen, again = without_gaps(seen, gaps), without_gaps(again, gaps)
            beside = {name: without_gaps(values, gaps) for name, values in beside.items()}
        elif part.name in passed_over(binding.specification):
            gaps = np.flatnonzero(np.isnan(seen))
            seen, again = without_gaps(seen, gaps), without_gaps(again, gaps)
            beside = {name: without_gaps(values, gaps) for name, values in beside.items()}
        numbers = numbers_of_outcome(binding, part, seen)
        observed |= numbers
        replicated |= numbers_of_outcome(binding, part, again)
        columns |= dict.fromkeys(numbers, beside)
        if part.event == "label":
            labels[part.name] = labels_of_outcome(binding, part)
    disagree = conflicts(draws, generator)
    return PredictiveCheck(
        observed=observed,
        replicated=replicated,
        labels=labels,
        columns=columns,
        own=dict(own),
        conflicts=disagree,
        units=dict(binding.specification.units),
    )


def _beside(draws: Draws, outcome: str) -> dict[str, np.ndarray]:
    """Return the columns with one value a row beside an outcome."""
    binding = draws.binding
    axis = dict(binding.program.outcome_axes)[outcome][0]
    outcomes = {part.name for part in binding.program.outcomes}
    return {
        name: column.values
        for name, column in binding.tables.columns.items()
        if column.axes == (axis,) and name not in outcomes
    }


def _row_text(seen: float, low: float, high: float) -> tuple[str, str]:
    """Return a statistic and its interval with the decimals of the replications' spread."""
    whole = all(value == round(value) for value in (seen, low, high) if np.isfinite(value))
    # A central interval of 95 % is about four standard deviations wide.
    decimals = 0 if whole else decimals_of((high - low) / 4)
    return fixed(seen, decimals), f"{fixed(low, decimals)} to {fixed(high, decimals)}"
