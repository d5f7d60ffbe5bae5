"""How the evidence for one model over another grew as rows came in."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from millwright.checks import check_whole
from millwright.display import Shown, frame_text
from millwright.errors import ArgumentError, DataError, ModelError, nearest
from millwright.evidence.bayes_factor import factor_sentence
from millwright.evidence.of_fit import density_in_pieces
from millwright.evidence.quadrature import log_integral
from millwright.fitting.target import target_of_first_rows
from millwright.modelling.binding import Binding
from millwright.modelling.data_sets import one_table
from millwright.modelling.same_shape import row_counts
from millwright.models.model import Model

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["EvidencePath", "evidence_path"]

_MOST_UNKNOWNS = 3
_TOLERANCE = 1e-4
_PRIOR_DRAWS = 4000
_STOPPING = (
    "Whoever stops as soon as a threshold is passed will pass it more often than the final number "
    "says: state in advance when to stop, and report the path as a whole."
)


@dataclass(frozen=True, kw_only=True)
class EvidencePath(Shown):
    """The evidences of two models after each row, or group of rows.

    Attributes
    ----------
    models
        Names of the two; Bayes factors are of the first over the second.
    steps
        What came in at each step: the value of the column of order or groups, or the row's
        number.
    rows
        How many rows there were after each step.
    log_evidences
        For each model the log evidence after each step.
    """

    models: tuple[str, str]
    steps: tuple[Any, ...] = field(repr=False)
    rows: np.ndarray = field(repr=False)
    log_evidences: Mapping[str, np.ndarray] = field(repr=False)

    @property
    def log_factors(self) -> np.ndarray:
        """Log Bayes factor of the first model over the second after each step."""
        first, second = self.models
        return np.asarray(self.log_evidences[first] - self.log_evidences[second])

    def table(self) -> pd.DataFrame:
        """Return one row a step: rows so far, log evidence of each model, log Bayes factor."""
        import pandas as pd

        columns = {"rows": self.rows} | {
            f"log evidence of {name}": values for name, values in self.log_evidences.items()
        }
        frame = pd.DataFrame({**columns, "log Bayes factor": self.log_factors})
        return frame.set_axis(pd.Index(list(self.steps), name="step"))

    @property
    def record(self) -> dict[str, Any]:
        """All of it as plain values."""
        return {
            "models": list(self.models),
            "steps": [str(step) for step in self.steps],
            "rows": self.rows.tolist(),
            "log_evidences": {n: _plain(v) for n, v in self.log_evidences.items()},
            "log_bayes_factors": _plain(self.log_factors),
        }

    def __str__(self) -> str:
        last = float(self.log_factors[-1])
        open_steps = int(np.isnan(self.log_factors).sum())
        left = []
        if open_steps:
            steps = "1 step" if open_steps == 1 else f"{open_steps} steps"
            left = [f"At {steps} the evidence could not be integrated to {_TOLERANCE:g}."]
        return "\n".join(
            [
                f"After all {self.rows[-1]} rows: "
                + factor_sentence(last, _TOLERANCE / 2.5, *self.models),
                frame_text(self.table(), 20),
                *left,
                _STOPPING,
            ]
        )


def _plain(values: np.ndarray) -> list[float | None]:
    return [None if np.isnan(value) else float(value) for value in values]


def evidence_path(
    models: Mapping[str, Model],
    data: Any,
    *,
    order: str | None = None,
    by: str | None = None,
    first: int = 1,
) -> EvidencePath:
    """Follow the Bayes factor of two models as rows come in.

    Each evidence is integrated by quadrature to a tolerance of 1e-4, so both models have at most
    three unknown numbers; all numbers of rows share what is compiled.

    Parameters
    ----------
    models
        Two models by name; the Bayes factor is of the first over the second.
    data
        One table, a row an observation.
    order
        A column by whose values the rows come in; by default as they stand.
    by
        A column of groups that come in together, in the order of their first rows.
    first
        Rows of the first step; not with `by`.

    Returns
    -------
    The evidences after each step; `mw.plots.evidence_path(result)` draws them.

    Raises
    ------
    ArgumentError
        For other than two models, more than three unknown numbers, or an order with ties.
    DataError
        If a column is missing or has gaps.
    ModelError
        For improper priors, terms in the log density, or rows that depend on each other.
    """
    if not isinstance(models, Mapping) or len(models) != 2:
        raise ArgumentError(
            "Give two models by name: evidence_path({'line': a, 'flat': b}, data)."
        )
    for name, model in models.items():
        if not isinstance(model, Model):
            raise ArgumentError(f"`{name}` must be a model, not {type(model).__name__}.")
    check_whole("first", first, 1)
    frame, steps, rows = _in_order(data, order, by, first)
    one, other = models
    bindings = {name: model.bind(frame) for name, model in models.items()}
    outcomes = [{part.name for part in b.program.outcomes} for b in bindings.values()]
    if outcomes[0] != outcomes[1]:
        raise ArgumentError(
            f"`{one}` and `{other}` have different outcomes, so their evidences cannot be "
            "compared."
        )
    paths = {name: _path(name, binding, rows) for name, binding in bindings.items()}
    return EvidencePath(models=(one, other), steps=steps, rows=rows, log_evidences=paths)


def _in_order(
    data: Any, order: str | None, by: str | None, first: int
) -> tuple[Any, tuple[Any, ...], np.ndarray]:
    """Return the rows in their order, what each step is called, and the rows after each."""
    frame = one_table(data, "Rows come in one by one")
    for column in (order, by):
        if column is not None and column not in frame.columns:
            known = list(map(str, frame.columns))
            raise DataError(f"The data have no column `{column}`.{nearest(str(column), known)}")
        if column is not None and frame[column].isna().any():
            raise DataError(f"The column `{column}` has gaps, so it gives no order.")
    if order is not None:
        if by is None and frame[order].duplicated().any():
            raise ArgumentError(
                f"`{order}` has ties, so it does not say which row came first: break them, or let "
                "rows of one value come in together by `by`."
            )
        frame = frame.sort_values(order, kind="stable").reset_index(drop=True)
    if by is None:
        count = np.arange(min(first, len(frame)), len(frame) + 1)
        names = frame[order].to_numpy()[count - 1] if order is not None else count
        return frame, tuple(names), count
    groups = {name: at for at, name in enumerate(frame[by].drop_duplicates())}
    codes = frame[by].map(groups).to_numpy()
    frame = frame.iloc[np.argsort(codes, kind="stable")].reset_index(drop=True)
    return frame, tuple(groups), np.cumsum(np.bincount(codes))


def _path(name: str, binding: Binding, rows: np.ndarray) -> np.ndarray:
    """Return the log evidence after each number of rows."""
    axis = _row_axis(name, binding)
    target = target_of_first_rows(binding, axis, 0)
    if target.prior_draws is None:
        raise ModelError(f"`{name}` has an improper prior, so it has no evidence.")
    drawn = target.prior_draws(np.random.default_rng(0), _PRIOR_DRAWS)
    drawn = drawn[np.isfinite(drawn).all(axis=1)]
    centre = drawn.mean(axis=0)
    factor = np.linalg.cholesky(np.cov(drawn.T).reshape(len(centre), -1))
    wanted = {int(count): at for at, count in enumerate(rows)}
    result = np.empty(len(rows))
    for count in _on_the_way(rows):
        values = density_in_pieces(target_of_first_rows(binding, axis, count), binding)
        # Twice: the first lattice finds where the posterior has moved to.
        rough = log_integral(values, centre, factor, 0.1)
        found = log_integral(values, rough.centre, rough.factor, _TOLERANCE)
        centre, factor = found.centre, found.factor
        if count in wanted:
            # What cannot be integrated to the tolerance is left open, and said.
            result[wanted[count]] = found.log_value if found.settled else np.nan
    return result


def _on_the_way(rows: np.ndarray) -> list[int]:
    """Return all numbers of rows to go through: each at most twice the one before.

    A lattice around the prior would not find a posterior of many rows.
    """
    counts, last = [], 0
    for count in map(int, rows):
        while 2 * last < count and last + 1 < count:
            last = max(2 * last, 1)
            counts.append(last)
        counts.append(count)
        last = count
    return counts


def _row_axis(name: str, binding: Binding) -> str:
    program = binding.program
    if program.log_density_terms:
        raise ModelError(f"`{name}` has terms added to the log density, so it has no evidence.")
    if binding.dimension > _MOST_UNKNOWNS:
        raise ArgumentError(
            f"`{name}` has {binding.dimension} unknown numbers; a path is integrated for up to "
            f"{_MOST_UNKNOWNS}. Fit the models to the first rows, to more of them and so on, and "
            "compare each pair by mw.bayes_factors(...)."
        )
    found = row_counts(binding)
    outcomes = {axes for _, axes in program.outcome_axes}
    if len(found) != 1 or len(outcomes) != 1:
        raise ModelError(
            f"The rows of `{name}` are not single observations that stand for themselves, so they "
            "cannot come in one by one."
        )
    return next(iter(found))
