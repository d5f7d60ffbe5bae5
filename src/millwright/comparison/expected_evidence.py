"""What Bayes factor further rows are likely to bring: simulated from each model in turn.

Schönbrodt and Wagenmakers (2018), "Bayes factor design analysis", Psychonomic Bulletin and Review.
"""

from __future__ import annotations

from collections.abc import Mapping
from concurrent.futures import Executor
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from millwright.checks import check_whole
from millwright.comparison.outcomes_alike import check_posteriors, check_same_outcomes
from millwright.display import Shown, text_table
from millwright.draws.outcomes import labels_of_outcome
from millwright.errors import ArgumentError, DataError, ModelError
from millwright.evidence.bayes_factor import factor_text
from millwright.evidence.of_fit import bridged_evidence
from millwright.modelling.binding import bind
from millwright.modelling.data_sets import one_table
from millwright.modelling.left_out import row_axis
from millwright.posterior.posterior import Posterior
from millwright.posterior.refits import fits_to
from millwright.sampling.progress import Listener
from millwright.sampling.streams import Stream, generator_of
from millwright.terminal.progress import chosen_listener

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["ExpectedEvidence", "expected_evidence"]


@dataclass(frozen=True, kw_only=True)
class ExpectedEvidence(Shown):
    """Bayes factors of two models after further rows, simulated from each of them.

    Attributes
    ----------
    models
        Names of the two; Bayes factors are of the first over the second.
    rows
        How many rows come in addition.
    log_factors
        Log Bayes factors of all rows together, by the model that the further rows come from.
    now
        The log Bayes factor of the rows that are there.
    threshold
        Bayes factor from which on evidence is called conclusive.
    lost
        How many simulated data sets gave no evidence to be relied on, by model.
    reasons
        Why the Bayes factor of the rows that are there is not to be trusted, if so.
    """

    models: tuple[str, str]
    rows: int
    log_factors: Mapping[str, np.ndarray] = field(repr=False)
    now: float
    threshold: float
    lost: Mapping[str, int]
    reasons: tuple[str, ...] = ()

    def shares(self, source: str) -> dict[str, float]:
        """Return which shares of data sets from a model are conclusive for it, misleading, open.

        Raises
        ------
        ArgumentError
            For another model.
        """
        if source not in self.log_factors:
            raise ArgumentError(f"The rows come from {' or '.join(self.models)}, not {source!r}.")
        sign = 1 if source == self.models[0] else -1
        toward = sign * self.log_factors[source]
        limit = np.log(self.threshold)
        return {
            "conclusive": float(np.mean(toward >= limit)),
            "misleading": float(np.mean(toward <= -limit)),
            "open": float(np.mean(np.abs(toward) < limit)),
        }

    def table(self) -> pd.DataFrame:
        """Return one row a model that the rows may come from.

        Returns
        -------
        The number of data sets; 5 %, 50 % and 95 % quantiles of the log Bayes factor of the
        first model over the second; shares conclusive for the model that they come from,
        misleading, and open.
        """
        import pandas as pd

        rows = {}
        for source, logs in self.log_factors.items():
            low, middle, high = np.quantile(logs, [0.05, 0.5, 0.95])
            rows[source] = {
                "data sets": len(logs),
                "log Bayes factor, 5 %": low,
                "log Bayes factor, median": middle,
                "log Bayes factor, 95 %": high,
                **self.shares(source),
            }
        return pd.DataFrame(rows).T.rename_axis("rows come from")

    @property
    def record(self) -> dict[str, Any]:
        """All of it as plain values."""
        return {
            "models": list(self.models),
            "rows": self.rows,
            "threshold": self.threshold,
            "log_bayes_factor_now": self.now,
            "log_bayes_factors": {n: logs.tolist() for n, logs in self.log_factors.items()},
            "shares": {name: self.shares(name) for name in self.log_factors},
            "lost": dict(self.lost),
            "reasons": list(self.reasons),
        }

    def __str__(self) -> str:
        one, other = self.models
        names = list(self.log_factors)
        middle = [np.quantile(self.log_factors[n], [0.05, 0.5, 0.95]) for n in names]
        columns = {
            f"Bayes factor, {one} over {other}: 5 %": [factor_text(float(m[0])) for m in middle],
            "median": [factor_text(float(m[1])) for m in middle],
            "95 %": [factor_text(float(m[2])) for m in middle],
        } | {
            word: [
                f"{self.shares(name)[word] * len(logs):.0f} of {len(logs)}"
                for name, logs in self.log_factors.items()
            ]
            for word in ("conclusive", "misleading", "open")
        }
        lines = [
            f"With {self.rows} rows more (Bayes factor of {one} over {other} now: "
            f"{factor_text(self.now)}):",
            text_table([f"if they come from {name}" for name in names], columns),
            f"Conclusive: a factor of {self.threshold:g} or more for the model that the rows come "
            "from; misleading: as much for the other one. The shares hold if one of the two is "
            "right, with these priors.",
        ]
        lines += [
            f"{lost} data sets from {name} gave no evidence to be relied on, and are left out."
            for name, lost in self.lost.items()
            if lost
        ]
        lines += [f"NOT TO BE TRUSTED: {reason}" for reason in self.reasons]
        return "\n".join(lines)


def expected_evidence(
    posteriors: Mapping[str, Posterior],
    *,
    rows: int = 40,
    data: Any = None,
    replications: int = 100,
    threshold: float = 10.0,
    seed: int = 0,
    workers: int | Executor | None = None,
    progress: bool | Listener = True,
) -> ExpectedEvidence:
    """Say what Bayes factor further rows are likely to bring.

    Rows are drawn from the posterior predictive distribution of each model in turn, put to the
    rows that are there, and both models are fitted to all of them.

    Parameters
    ----------
    posteriors
        Two fits of the same rows, by name; the Bayes factor is of the first over the second.
    rows
        How many rows come in addition.
    data
        Their predictors, a table of so many rows; by default rows that are there, drawn at random.
    replications
        How many data sets to draw from each model.
    threshold
        Bayes factor from which on evidence is called conclusive.
    seed
        Any whole number from 0.
    workers
        Threads, or any executor, for the fits.
    progress
        Whether to show the progress of the fits, or a listener.

    Returns
    -------
    The log Bayes factors to be expected, and how often they are conclusive or misleading;
    `mw.plots.expected_evidence(result)` draws them.

    Raises
    ------
    ArgumentError
        For other than two fits, fits of different rows, or numbers that make no sense.
    ModelError
        For improper priors, several tables, or rows that depend on each other.
    """
    if not isinstance(posteriors, Mapping) or len(posteriors) != 2:
        raise ArgumentError("Give two fits by name: expected_evidence({'line': a, 'flat': b}).")
    found = check_posteriors(posteriors)
    check_same_outcomes(found, "evidences")
    for name, value, least in (
        ("rows", rows, 1),
        ("replications", replications, 10),
        ("seed", seed, 0),
    ):
        check_whole(name, value, least)
    if not threshold > 1:
        raise ArgumentError(f"`threshold` must be above 1, not {threshold!r}.")
    one, other = found
    columns = {name: _columns(name, fit) for name, fit in found.items()}
    now = {name: fit.evidence() for name, fit in found.items()}
    if data is not None:
        rows = len(one_table(data, "Further rows stand in a table"))
    logs, lost = {}, {}
    for at, source in enumerate(found):
        sets = _data_sets(found, columns, source, data, rows, replications, seed + at)
        evidences = {
            name: _evidences(fit, sets[name], seed, workers, progress)
            for name, fit in found.items()
        }
        both = evidences[one] - evidences[other]
        logs[source] = both[np.isfinite(both)]
        lost[source] = int(np.sum(~np.isfinite(both)))
        if not len(logs[source]):
            raise ModelError(
                f"No data set from `{source}` gave evidences to be relied on; look at "
                "mw.bayes_factors(...) of the fits."
            )
    return ExpectedEvidence(
        models=(one, other),
        rows=rows,
        log_factors=logs,
        now=now[one].log_value - now[other].log_value,
        threshold=float(threshold),
        lost=lost,
        reasons=tuple(
            f"the evidence of `{name}`: {made.reasons[0]}"
            for name, made in now.items()
            if not made.trusted
        ),
    )


Columns = dict[str, np.ndarray]


def _data_sets(
    found: Mapping[str, Posterior],
    columns: Mapping[str, Columns],
    source: str,
    data: Any,
    rows: int,
    replications: int,
    seed: int,
) -> dict[str, list[Columns]]:
    """Return for each model its data with further rows from one of them, once a replication."""
    generator = generator_of(seed, Stream.SIMULATION)
    posterior = found[source]
    outcomes = {part.name: part for part in posterior.draws.binding.program.outcomes}
    every = columns[source]
    size = len(next(iter(every.values())))
    if data is None:
        chosen = generator.integers(size, size=rows)
        new = {name: {n: v[chosen] for n, v in own.items()} for name, own in columns.items()}
    else:
        frame = one_table(data, "Further rows stand in a table")
        new = {name: _of_frame(frame, own, outcomes) for name, own in columns.items()}
    predictors = {n: v for n, v in new[source].items() if n not in outcomes}
    predicted = posterior.predict(predictors or None, None if predictors else rows)
    which = np.linspace(0, len(next(iter(predicted.draws.values()))) - 1, replications).astype(int)
    sets: dict[str, list[Columns]] = {name: [] for name in found}
    for at in which:
        drawn = {}
        for outcome, part in outcomes.items():
            values = predicted.draws[outcome][at]
            if part.event == "label":
                labels = np.array(labels_of_outcome(predicted.binding, part), dtype=object)
                values = labels[values.astype(int)]
            drawn[outcome] = values
        for name, own in columns.items():
            added = {**new[name], **drawn}
            sets[name].append({n: np.concatenate([v, added[n]]) for n, v in own.items()})
    return sets


def _columns(name: str, posterior: Posterior) -> Columns:
    """Return the columns of a fit's one table that the model uses.

    Raises
    ------
    ModelError
        For several tables, or rows that do not stand for themselves: further ones could not be
        drawn by themselves.
    """
    binding = posterior.draws.binding
    program, tables = binding.program, binding.tables
    if any(row_axis(binding, part) is None for part in program.outcomes):
        raise ModelError(
            f"The rows of `{name}` are not single observations that stand for themselves (they "
            "depend on each other, have gaps or vectors, or unknowns of their own), so further "
            "ones cannot be drawn one by one."
        )
    used = {*program.column_axes, *(part.name for part in program.outcomes)}
    if list(tables.sizes) != ["row"] or tables.matrix_labels or tables.sizes["row"] < 1:
        raise ModelError(
            f"`{name}` does not have its data in one plain table: give several tables as one, and "
            "the columns of a matrix one by one."
        )
    columns = [one for one in tables.columns.values() if one.name in used]
    single = [one.name for one in columns if one.axes != ("row",)]
    if single:
        raise ModelError(f"`{name}` has data that are no column of its table: {single[0]}.")
    return {column.name: column.values for column in columns}


def _of_frame(frame: pd.DataFrame, own: Columns, outcomes: Mapping[str, Any]) -> Columns:
    """Return further rows of a model's predictors, with the outcomes left open."""
    lacking = [name for name in own if name not in frame.columns and name not in outcomes]
    if lacking:
        raise DataError(f"The further rows have no column `{lacking[0]}`.")
    return {name: frame[name].to_numpy() for name in own if name in frame.columns}


def _evidences(
    posterior: Posterior,
    sets: list[Columns],
    seed: int,
    workers: int | Executor | None,
    progress: bool | Listener,
) -> np.ndarray:
    """Return the log evidence of each data set; NaN where it cannot be relied on."""
    binding = posterior.draws.binding
    bindings: dict[Any, Any] = {
        at: bind(binding.specification, one, functions=binding.program.foreign)
        for at, one in enumerate(sets)
    }
    fits = fits_to(posterior.fit, bindings, chosen_listener(progress), seed, workers).fits
    result = np.full(len(sets), np.nan)
    for at, one in fits.items():
        result[at] = bridged_evidence(one)
    return result
