"""Predictive draws: replications of the data, predictions of new rows, and their scores."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd
from scipy.special import logsumexp

from millwright.draws.intervals import IntervalKind, interval, kind_words
from millwright.draws.labelled_draws import Draws
from millwright.draws.numbers import probability_text
from millwright.errors import ArgumentError, DataError, nearest
from millwright.modelling.arguments import family_of
from millwright.modelling.binding import Binding, bind
from millwright.modelling.density import log_likelihood
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import DRAW, Labelled, full
from millwright.modelling.simulate import draw_outcomes

__all__ = ["STATISTICS", "PredictiveCheck", "Predictions", "Score", "check_against", "predict"]

STATISTICS: dict[str, Callable[..., Any]] = {
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
        Observed values of each outcome, shape (rows,).
    replicated
        Replications of each outcome, shape (draws, rows).
    """

    observed: Mapping[str, np.ndarray] = field(repr=False)
    replicated: Mapping[str, np.ndarray] = field(repr=False)

    def table(self) -> pd.DataFrame:
        """Return each statistic: observed, in replications, and its tail probability.

        The tail probability is the share of replications with a larger statistic, ties
        counting half (Gelman, Meng and Stern 1996). Near 0 or 1 the model does not reproduce
        that side of the data; around 0.5 it does.
        """
        rows = []
        for outcome, seen in self.observed.items():
            for name, statistic in STATISTICS.items():
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
    copies = draw_outcomes(binding, size, generator, evaluation)
    observed = {name: np.asarray(binding.arguments["column", name]) for name in copies}
    return PredictiveCheck(observed, copies)


def thinned(draws: Draws, most: int) -> slice:
    """Return every k-th draw so that at most `most` are left."""
    chains, n = draws.shape
    return slice(None, None, max(1, -(-chains * n // most)))


@dataclass(frozen=True)
class Score:
    """How well predictions met the truth.

    Attributes
    ----------
    frame
        One row a way of predicting (the whole posterior; the posterior mean plugged in) and an
        outcome.
    """

    frame: pd.DataFrame

    def __str__(self) -> str:
        shown = self.frame.copy()
        for column in shown.columns:
            percent = column.startswith("inside")
            shown[column] = [f"{100 * v:.0f} %" if percent else f"{v:.4g}" for v in shown[column]]
        key = (
            "Errors: smaller is better, in the outcome's unit. Log score (mean log predictive "
            "density): larger is better. Inside: should be near 50 % and 95 %."
        )
        return f"{shown.rename_axis([None, None]).T.to_string()}\n{key}"


@dataclass(frozen=True)
class Predictions:
    """Predictive draws for new rows.

    Attributes
    ----------
    draws
        Draws of each outcome, shape (draws, rows).
    expected
        Posterior mean of each row's expectation, or the median of its draws where the
        distribution has no mean.
    """

    draws: Mapping[str, np.ndarray] = field(repr=False)
    expected: Mapping[str, np.ndarray] = field(repr=False)
    _posterior: Draws = field(repr=False)
    _binding: Binding = field(repr=False)
    _generator_seed: int = field(repr=False)

    def table(self, level: float = 0.95, kind: IntervalKind = "central") -> pd.DataFrame:
        """Return one row a row and outcome: mean, median, and the predictive interval."""
        name = kind_words(kind, level)
        frames = []
        for outcome, draws in self.draws.items():
            low, high = interval(draws, level, kind)
            frames.append(
                pd.DataFrame(
                    {
                        "outcome": outcome,
                        "row": np.arange(1, draws.shape[1] + 1),
                        "mean": self.expected[outcome],
                        "median": np.median(draws, axis=0),
                        f"{name}, from": low,
                        f"{name}, to": high,
                    }
                )
            )
        return pd.concat(frames).set_index(["outcome", "row"])

    def __str__(self) -> str:
        return self.table().to_string(float_format=lambda v: f"{v:.4g}", max_rows=40)

    def score(self, truth: Any) -> Score:
        """Compare with what was observed.

        Parameters
        ----------
        truth
            DataFrame or mapping with the outcome columns for the predicted rows; or one array
            if there is one outcome.

        Returns
        -------
        Root-mean-square error, mean and largest absolute error, log score, and coverage of
        the 50 % and 95 % central intervals: for the whole posterior, and for the posterior
        mean plugged in as if it were known.

        Raises
        ------
        DataError
            If a column is missing or its length differs.
        """
        columns = _truth(truth, self.draws)
        rows = {}
        plug = self._plugged_in()
        for outcome, seen in columns.items():
            density, plug_density = self._log_scores(outcome, seen, plug)
            rows["whole posterior", outcome] = _scores(
                self.expected[outcome], self.draws[outcome], seen, density
            )
            rows["posterior mean only", outcome] = _scores(
                plug[2][outcome], plug[1][outcome], seen, plug_density
            )
        return Score(pd.DataFrame(rows).T.rename_axis(["prediction from", "outcome"]))

    def _plugged_in(self) -> tuple[Evaluation, dict[str, np.ndarray], dict[str, np.ndarray]]:
        known = {
            name: Labelled(item.values.mean(axis=0, keepdims=True), item.axes)
            for name, item in self._posterior.known().items()
        }
        evaluation = self._binding.evaluation(known)
        size = 4000
        repeated = {
            name: Labelled(np.repeat(item.values, size, axis=0), item.axes)
            for name, item in known.items()
        }
        generator = np.random.default_rng(self._generator_seed)
        draws = draw_outcomes(self._binding, size, generator, self._binding.evaluation(repeated))
        return evaluation, draws, expectations(self._binding, evaluation, draws)

    def _log_scores(
        self, outcome: str, seen: np.ndarray, plug: tuple[Evaluation, Any, Any]
    ) -> tuple[np.ndarray, np.ndarray]:
        """Log predictive density of each row, from all draws and from the plugged-in mean."""
        part = next(p for p in self._binding.program.outcomes if p.name == outcome)
        values = dict(self._binding.arguments) | {("column", outcome): seen}
        result = []
        for evaluation in (self._posterior.evaluation(self._binding), plug[0]):
            evaluation.arguments = values
            with np.errstate(all="ignore"):
                item = log_likelihood(evaluation, part)
            axes = dict(self._binding.program.outcome_axes)[outcome]
            lead = 1 if evaluation is plug[0] else int(np.prod(self._posterior.shape))
            density = full(item, (DRAW, *axes), (lead, *seen.shape))
            result.append(logsumexp(density, axis=0) - np.log(lead))
        return result[0], result[1]


def _truth(truth: Any, draws: Mapping[str, np.ndarray]) -> dict[str, np.ndarray]:
    if not isinstance(truth, Mapping) and not hasattr(truth, "columns"):
        if len(draws) > 1:
            raise ArgumentError(f"`truth` needs a column for each of {', '.join(draws)}.")
        truth = {next(iter(draws)): truth}
    result = {}
    for outcome, copies in draws.items():
        if outcome not in truth:
            raise DataError(
                f"`truth` has no column `{outcome}`.{nearest(outcome, map(str, truth))}"
            )
        seen = np.asarray(truth[outcome], dtype=float)
        if seen.shape != copies.shape[1:]:
            raise DataError(
                f"`truth` has {seen.size} values of `{outcome}`, but {copies.shape[1]} rows "
                "were predicted."
            )
        if not np.isfinite(seen).all():
            raise DataError(f"`truth`: `{outcome}` has missing or infinite values.")
        result[outcome] = seen
    return result


def _scores(
    expected: np.ndarray, draws: np.ndarray, seen: np.ndarray, log_density: np.ndarray
) -> dict[str, float]:
    error = seen - expected
    inside = []
    for level in (0.5, 0.95):
        low, high = interval(draws, level)
        inside.append(float(np.mean((seen >= low) & (seen <= high))))
    return {
        "root-mean-square error": float(np.sqrt(np.mean(error**2))),
        "mean absolute error": float(np.mean(np.abs(error))),
        "largest absolute error": float(np.max(np.abs(error))),
        "log score": float(np.mean(log_density)),
        "inside 50 % interval": inside[0],
        "inside 95 % interval": inside[1],
    }


def predict(draws: Draws, data: Any, rows: int | None, seed: int) -> Predictions:
    """Draw outcomes for new rows, once for each posterior draw."""
    binding = bind(
        draws.binding.specification, data, draws.binding.labels, rows, outcomes="optional"
    )
    evaluation = draws.evaluation(binding)
    size = int(np.prod(draws.shape))
    generator = np.random.default_rng([seed, 2])
    copies = draw_outcomes(binding, size, generator, evaluation)
    return Predictions(copies, expectations(binding, evaluation, copies), draws, binding, seed)


def expectations(
    binding: Binding, evaluation: Evaluation, copies: Mapping[str, np.ndarray]
) -> dict[str, np.ndarray]:
    """Return each row's expectation, averaged over the draws of the unknowns."""
    result = {}
    for part in binding.program.outcomes:
        named = dict(evaluation.parameters(part).items())
        axes = dict(binding.program.outcome_axes)[part.name]
        rows = binding.program.shape(axes)
        values = {
            name: full(item, (DRAW, *axes), (_lead(evaluation), *rows))
            for name, item in named.items()
        }
        with np.errstate(all="ignore"):
            mean = np.asarray(family_of(part.family, part.arguments).mean(values))
        mean = np.broadcast_to(mean, (len(mean) if mean.ndim else 1, *rows)).mean(axis=0)
        result[part.name] = np.where(np.isfinite(mean), mean, np.median(copies[part.name], axis=0))
    return result


def _lead(evaluation: Evaluation) -> int:
    first = evaluation.program.unknowns[0].name
    return len(evaluation.values[first].values)
