"""Predictions of new rows, and how well they met the truth."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pandas as pd
from scipy.special import logsumexp

from millwright.display import Shown, middle_left_out, text_table
from millwright.draws.conditioning import Conditional
from millwright.draws.expected_outcomes import expected_outcomes, lead_of
from millwright.draws.intervals import IntervalKind, interval, kind_words
from millwright.draws.labelled_draws import label_texts
from millwright.draws.numbers import decimals_of, fixed, probability_text, range_text
from millwright.draws.outcomes import labels_of_outcome, numbers_of_outcome
from millwright.draws.scores import Score, label_scores, number_scores
from millwright.errors import ArgumentError, DataError, nearest
from millwright.modelling.binding import Binding
from millwright.modelling.density import log_density_of
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import DRAW, Labelled, full
from millwright.modelling.reading import read_tables
from millwright.modelling.simulate import draw_outcomes
from millwright.modelling.specification import Part

_MOST_PREDICTORS = 3

__all__ = ["Predictions", "scores_of"]


@dataclass(frozen=True, kw_only=True)
class Predictions(Shown):
    """Predictive draws for new rows.

    Attributes
    ----------
    draws
        Draws of each outcome, shape (draws, rows), or (draws, rows, labels) for vectors. Labels
        are held as positions.
    expected
        Posterior mean of each row's expectation, or the median of its draws where the
        distribution has no mean; for labels the probability of each, shape (rows, labels).
    latent
        Draws without noise of the outcomes that are Gaussian processes, shape (draws, rows).
    """

    draws: Mapping[str, np.ndarray] = field(repr=False)
    expected: Mapping[str, np.ndarray] = field(repr=False)
    latent: Mapping[str, np.ndarray] = field(repr=False)
    _known: Mapping[str, Labelled] = field(repr=False)
    _binding: Binding = field(repr=False)
    _generator_seed: int = field(repr=False)
    _joint: Mapping[str, Conditional] = field(repr=False)
    _numbers: Mapping[str, np.ndarray] = field(repr=False)

    def table(self, level: float = 0.95, kind: IntervalKind = "central") -> pd.DataFrame:
        """Return one row a row and outcome: mean, median, and the predictive interval.

        For an outcome of labels: the probability of each.
        """
        name = kind_words(kind, level)
        frames = []
        for part in self._binding.program.outcomes:
            if part.event == "label":
                frames.append(self._label_frame(part))
                continue
            numbers = numbers_of_outcome(self._binding, part, self.draws[part.name])
            means = numbers_of_outcome(self._binding, part, self.expected[part.name])
            for outcome, draws in numbers.items():
                low, high = interval(draws, level, kind)
                frames.append(
                    pd.DataFrame(
                        {
                            "outcome": outcome,
                            "row": self._rows(part),
                            "mean": means[outcome],
                            "median": np.median(draws, axis=0),
                            f"{name}, from": low,
                            f"{name}, to": high,
                        }
                    )
                )
        return pd.concat(frames).set_index(["outcome", "row"])

    def _rows(self, part: Part) -> np.ndarray:
        """Return the numbers of the rows of an outcome's table."""
        axis = dict(self._binding.program.outcome_axes)[part.name][0]
        found = self._numbers.get(axis, np.array([]))
        size = self._binding.program.shape((axis,))[0]
        return found if len(found) == size else np.arange(1, size + 1)

    def _label_frame(self, part: Part) -> pd.DataFrame:
        labels = labels_of_outcome(self._binding, part)
        shares = self.expected[part.name]
        best = [labels[at] for at in shares.argmax(axis=1)]
        columns = {f"P({label})": shares[:, at] for at, label in enumerate(labels)}
        return pd.DataFrame(
            {"outcome": part.name, "row": self._rows(part), "most probable": best, **columns}
        )

    def __str__(self) -> str:
        names: list[str] = []
        cells: dict[str, list[str]] = {}
        for part in self._binding.program.outcomes:
            rows = self._row_words(part)
            for outcome, columns in self._shown(part).items():
                named = self._binding.specification.with_unit(outcome)
                names += [f"{named}, {row}" for row in rows]
                so_far = len(names) - len(rows)
                for heading, column in columns.items():
                    cells.setdefault(heading, [""] * so_far).extend(column)
                for column in cells.values():
                    column += [""] * (len(names) - len(column))
        return text_table(*middle_left_out(names, cells, most=40))

    def _shown(self, part: Part) -> dict[str, dict[str, list[str]]]:
        """Return the cells of an outcome, with the decimals that each row's spread supports."""
        if part.event == "label":
            frame = self._label_frame(part).drop(columns=["outcome", "row"])
            return {
                part.name: {
                    str(name): [
                        probability_text(float(v), len(self.draws[part.name]))
                        if isinstance(v, float)
                        else str(v)
                        for v in frame[name]
                    ]
                    for name in frame.columns
                }
            }
        numbers = numbers_of_outcome(self._binding, part, self.draws[part.name])
        means = numbers_of_outcome(self._binding, part, self.expected[part.name])
        found = {}
        for outcome, draws in numbers.items():
            low, high = interval(draws, 0.95, "central")
            spread = np.std(draws, axis=0, ddof=1)
            decimals = [decimals_of(sd) for sd in spread]
            found[outcome] = {
                "mean": [fixed(v, d) for v, d in zip(means[outcome], decimals, strict=True)],
                "median": [
                    fixed(v, d) for v, d in zip(np.median(draws, axis=0), decimals, strict=True)
                ],
                kind_words("central", 0.95): [
                    range_text(a, b, sd) for a, b, sd in zip(low, high, spread, strict=True)
                ],
            }
        return found

    def _row_words(self, part: Part) -> list[str]:
        """Name each row by its number and by its labels or first predictors."""
        program, tables = self._binding.program, self._binding.tables
        axis = dict(program.outcome_axes)[part.name][0]
        outcomes = {one.name for one in program.outcomes}
        used = [
            name
            for name in program.column_axes
            if name in tables.columns
            and tables.columns[name].axes == (axis,)
            and name not in outcomes
        ]
        first = sorted(used, key=lambda name: tables.columns[name].numeric)[:_MOST_PREDICTORS]
        words = [
            [f"{name} {text}" for text in label_texts(list(tables.columns[name].values))]
            for name in first
        ]
        rows = [f"row {number}" for number in self._rows(part)]
        return [", ".join(each) for each in zip(rows, *words, strict=True)]

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
        mean plugged in as if it were known. For an outcome of labels: log score, and the share
        of rows in which the most probable label was right. A vector counts number by number,
        but for its log score.

        Raises
        ------
        DataError
            If a column is missing or its length differs.
        """
        columns = self.observed(truth)
        rows: dict[tuple[str, str], dict[str, float]] = {}
        evaluation, draws, expected = self._plugged_in()
        plug = replace(self, draws=draws, expected=expected)
        for outcome, seen in columns.items():
            density = self._log_scores(outcome, seen)
            rows["whole posterior", outcome] = scores_of(self, outcome, seen, density)
            if outcome not in self._joint:
                density = self._log_scores(outcome, seen, evaluation)
                rows["posterior mean only", outcome] = scores_of(plug, outcome, seen, density)
        return Score(pd.DataFrame(rows).T.rename_axis(["prediction from", "outcome"]))

    @property
    def binding(self) -> Binding:
        """The model bound to the new rows."""
        return self._binding

    @property
    def outcomes(self) -> tuple[Part, ...]:
        """The outcomes that were predicted."""
        return self._binding.program.outcomes

    def log_densities(self, truth: Any) -> dict[str, np.ndarray]:
        """Return the log predictive density of what was observed, shape (rows,), by outcome.

        Raises
        ------
        DataError
            If a column is missing or its length differs.
        """
        seen = self.observed(truth)
        return {outcome: self._log_scores(outcome, values) for outcome, values in seen.items()}

    def observed(self, truth: Any) -> dict[str, np.ndarray]:
        """Return the observed values of each outcome, laid out like its draws.

        Raises
        ------
        ArgumentError, DataError
            If they do not fit.
        """
        if not isinstance(truth, Mapping) and not hasattr(truth, "columns"):
            if len(self.draws) > 1:
                raise ArgumentError(f"`truth` needs a column for each of {', '.join(self.draws)}.")
            truth = {next(iter(self.draws)): truth}
        tables = read_tables(truth, self._binding.specification.columns)
        result = {}
        for part in self._binding.program.outcomes:
            if part.name not in tables.columns:
                words = nearest(part.name, map(str, tables.columns))
                raise DataError(f"`truth` has no column `{part.name}`.{words}")
            labels = labels_of_outcome(self._binding, part) if part.event == "label" else ()
            seen = (
                tables.codes(part.name, labels, part.name).astype(float)
                if labels
                else tables.numbers(part.name)
            )
            wanted = self.draws[part.name].shape[1:]
            if seen.shape != wanted:
                raise DataError(
                    f"`truth` has {len(np.atleast_1d(seen))} values of `{part.name}`, but "
                    f"{wanted[0]} rows were predicted."
                )
            result[part.name] = seen
        return result

    def _plugged_in(self) -> tuple[Evaluation, dict[str, np.ndarray], dict[str, np.ndarray]]:
        known = {
            name: Labelled(item.values.mean(axis=0, keepdims=True), item.axes)
            for name, item in self._known.items()
        }
        evaluation = self._binding.evaluation(known)
        size = 4000
        repeated = {
            name: Labelled(np.repeat(item.values, size, axis=0), item.axes)
            for name, item in known.items()
        }
        generator = np.random.default_rng(self._generator_seed)
        again = self._binding.evaluation(repeated)
        draws = draw_outcomes(self._binding, size, generator, again, leave_out=tuple(self._joint))
        return evaluation, draws, expected_outcomes(self._binding, evaluation, draws)

    def _log_scores(
        self, outcome: str, seen: np.ndarray, evaluation: Evaluation | None = None
    ) -> np.ndarray:
        """Log predictive density of each row, from all draws or those of another evaluation."""
        if outcome in self._joint:
            return _joint_log_scores(self._joint[outcome], seen)
        part = next(p for p in self._binding.program.outcomes if p.name == outcome)
        evaluation = evaluation or self._binding.evaluation(self._known)
        # Of a column with gaps too it is what was seen that counts, not what was drawn.
        value = Labelled(seen, dict(self._binding.program.outcome_axes)[outcome])
        with np.errstate(all="ignore"):
            item = log_density_of(part, value, evaluation.parameters(part), evaluation)
        lead = lead_of(evaluation)
        shape = (lead, *self._binding.program.shape(item.labels))
        density = full(item, (DRAW, *item.labels), shape)
        return np.asarray(logsumexp(density, axis=0) - np.log(lead))


def scores_of(
    found: Predictions, outcome: str, seen: np.ndarray, log_density: np.ndarray
) -> dict[str, float]:
    """Return the scores of one outcome, given the log predictive density of each row."""
    part = next(one for one in found.outcomes if one.name == outcome)
    scores = label_scores if part.event == "label" else number_scores
    return scores(found.expected[outcome], found.draws[outcome], seen, log_density)


def _joint_log_scores(found: Conditional, seen: np.ndarray) -> np.ndarray:
    """Log predictive density of each row, from the normal densities of all draws."""
    error = (seen - found.mean) ** 2 / found.variance
    logs = -0.5 * (error + np.log(2 * np.pi * found.variance))
    return np.asarray(logsumexp(logs, axis=0) - np.log(len(logs)))
