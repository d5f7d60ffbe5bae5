"""Predictions of several models, averaged by their weights."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pandas as pd
from scipy.special import logsumexp

from millwright.comparison.mixing import mixed
from millwright.display import Shown
from millwright.draws.intervals import IntervalKind
from millwright.draws.outcomes import labels_of_outcome
from millwright.draws.prediction import Predictions, scores_of
from millwright.draws.scores import Score
from millwright.errors import ArgumentError

__all__ = ["AveragedPredictions", "averaged_predictions"]


@dataclass(frozen=True, kw_only=True)
class AveragedPredictions(Shown):
    """Predictive draws for new rows, of each model a share by its weight.

    Attributes
    ----------
    predictions
        Those of each model.
    weights
        The weight of each.
    """

    predictions: Mapping[str, Predictions] = field(repr=False)
    weights: Mapping[str, float]
    _together: Predictions = field(repr=False)

    @property
    def draws(self) -> Mapping[str, np.ndarray]:
        """Averaged draws of each outcome, shape (draws, rows), or (draws, rows, labels)."""
        return self._together.draws

    @property
    def expected(self) -> Mapping[str, np.ndarray]:
        """Averaged expectation of each row; for labels the probability of each."""
        return self._together.expected

    def table(self, level: float = 0.95, kind: IntervalKind = "central") -> pd.DataFrame:
        """Return one row a row and outcome, as `Predictions.table` does."""
        return self._together.table(level, kind)

    def __str__(self) -> str:
        return str(self._together)

    def score(self, truth: Any) -> Score:
        """Compare with what was observed: the average, and each model by itself.

        Parameters
        ----------
        truth
            As for `Predictions.score`. The density of the average is that of the mixture.

        Raises
        ------
        DataError
            If a column is missing or its length differs.
        """
        seen = self._together.observed(truth)
        densities = {name: one.log_densities(truth) for name, one in self.predictions.items()}
        rows: dict[tuple[str, str], dict[str, float]] = {}
        for outcome, values in seen.items():
            logs = np.array([densities[name][outcome] for name in self.weights])
            shares = np.array(list(self.weights.values()))
            with np.errstate(divide="ignore"):
                density = logsumexp(logs + np.log(shares)[:, None], axis=0)
            rows["average", outcome] = scores_of(self._together, outcome, values, density)
            for name, one in self.predictions.items():
                own = densities[name][outcome]
                rows[name, outcome] = scores_of(one, outcome, values, own)
        return Score(pd.DataFrame(rows).T.rename_axis(["prediction from", "outcome"]))


def averaged_predictions(
    predictions: Mapping[str, Predictions], weights: Mapping[str, float], draws: int
) -> AveragedPredictions:
    """Put predictions of the same rows together.

    Raises
    ------
    ArgumentError
        If the models predict labels in different orders.
    """
    first = next(iter(predictions.values()))
    for part in first.outcomes:
        if part.event == "label":
            orders = {labels_of_outcome(one.binding, part) for one in predictions.values()}
            if len(orders) > 1:
                raise ArgumentError(
                    f"The models do not know the same labels of `{part.name}`, so their "
                    "predictions cannot be averaged."
                )
    names = [part.name for part in first.outcomes]
    shares = [weights[name] for name in predictions]
    together = replace(
        first,
        draws={
            name: mixed([one.draws[name] for one in predictions.values()], shares, draws)
            for name in names
        },
        expected={
            name: np.sum(
                [
                    w * one.expected[name]
                    for w, one in zip(shares, predictions.values(), strict=True)
                ],
                axis=0,
            )
            for name in names
        },
        latent={},
    )
    return AveragedPredictions(
        predictions=dict(predictions), weights=dict(weights), _together=together
    )
