"""Replications of the data against the data observed."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd

from millwright.draws.intervals import interval
from millwright.draws.labelled_draws import Draws, thinned
from millwright.draws.latent import joint_outcomes, replicate_around
from millwright.draws.numbers import probability_text
from millwright.draws.outcomes import labels_of_outcome, numbers_of_outcome
from millwright.modelling.missing import without_gaps
from millwright.modelling.simulate import draw_outcomes

__all__ = ["PredictiveCheck", "Statistic", "check_against"]

Statistic = Callable[..., Any]

_STATISTICS: dict[str, Statistic] = {
    "mean": np.mean,
    "sd": lambda x, axis: np.std(x, axis=axis, ddof=1),
    "minimum": np.min,
    "median": np.median,
    "maximum": np.max,
}


@dataclass(frozen=True)
class PredictiveCheck:
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
    """

    observed: Mapping[str, np.ndarray] = field(repr=False)
    replicated: Mapping[str, np.ndarray] = field(repr=False)
    labels: Mapping[str, tuple[Any, ...]] = field(default_factory=dict, repr=False)

    def statistics(self, outcome: str) -> dict[str, Statistic]:
        """Return what is compared: functions of values and an axis, by name."""
        if outcome not in self.labels:
            return _STATISTICS
        return {
            f"share of {label}": lambda x, axis, at=at: np.mean(np.asarray(x) == at, axis=axis)
            for at, label in enumerate(self.labels[outcome])
        }

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

    def __str__(self) -> str:
        table = self.table()
        shares = table["share of replications above"]
        size = len(next(iter(self.replicated.values())))
        shown = pd.DataFrame(
            {
                "observed": [f"{v:.4g}" for v in table["observed"]],
                "replicated, 95 % central interval": [
                    f"{a:.4g} to {b:.4g}"
                    for a, b in zip(table.iloc[:, 1], table.iloc[:, 2], strict=True)
                ],
                "share of replications above": [probability_text(p, size) for p in shares],
            },
            index=table.index.set_names([None, None]),
        )
        return f"{self._verdict(table)}\n{shown.to_string()}"

    def _verdict(self, table: pd.DataFrame) -> str:
        shares = table["share of replications above"]
        odd = table.index[(shares < 0.025) | (shares > 0.975)]
        if not len(odd):
            return (
                "Predictive check: the model reproduces the centre, spread and extremes of its "
                "data (all shares between 0.025 and 0.975)."
            )
        named = ", ".join(f"{statistic} of `{outcome}`" for outcome, statistic in odd)
        return (
            f"Predictive check: the model does NOT reproduce the {named}: the share of "
            "replications above the observed value is below 0.025 or above 0.975. Think of a "
            "likelihood with other tails or spread, or of a predictor that is missing."
        )


def check_against(draws: Draws, generator: np.random.Generator, most: int) -> PredictiveCheck:
    """Replicate the data once for each of at most `most` draws, spread over all chains."""
    binding = draws.binding
    keep = thinned(draws, most)
    evaluation = draws.evaluation(keep=keep)
    size = len(evaluation.values[binding.program.unknowns[0].name].values)
    found = {p.name: replicate_around(draws, p, keep, generator) for p in joint_outcomes(binding)}
    around = {name: copies for name, copies in found.items() if copies is not None}
    copies = around | draw_outcomes(binding, size, generator, evaluation, tuple(around))
    observed: dict[str, np.ndarray] = {}
    replicated: dict[str, np.ndarray] = {}
    labels = {}
    for part in binding.program.outcomes:
        seen = np.asarray(binding.arguments["observed", part.name])
        again = copies[part.name]
        if part.name in binding.program.filled:
            gaps = binding.arguments["gaps", part.name]
            seen, again = without_gaps(seen, gaps), without_gaps(again, gaps)
        observed |= numbers_of_outcome(binding, part, seen)
        replicated |= numbers_of_outcome(binding, part, again)
        if part.event == "label":
            labels[part.name] = labels_of_outcome(binding, part)
    return PredictiveCheck(observed, replicated, labels)
