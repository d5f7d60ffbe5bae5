"""Expected outcomes of a regression at stated values of its predictors."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import pandas as pd

from millwright.draws.intervals import IntervalKind, interval, kind_words
from millwright.draws.table import make_table
from millwright.errors import ArgumentError, nearest
from millwright.posterior.summaries import table_frame
from millwright.studies.regression_draws import RegressionDraws
from millwright.studies.regression_model import RegressionParts

__all__ = ["contrast_table", "effect_table"]

_PLACES = 41


def effect_table(
    made: RegressionDraws,
    data: pd.DataFrame,
    predictor: str,
    at: Mapping[str, Any],
    values: Sequence[Any] | None,
    level: float,
    kind: IntervalKind,
) -> pd.DataFrame:
    """See `RegressionFindings.effect`."""
    rows, shown = _grid(made.parts, data, predictor, at, values)
    means = _expected(made, rows)
    words = kind_words(kind, level)
    columns = ["median", f"{words}, from", f"{words}, to"]
    low, high = interval(means, level, kind)
    middle = np.median(means, axis=0)
    if means.ndim == 2:
        index = pd.Index(shown, name=predictor)
        return pd.DataFrame(np.stack([middle, low, high], axis=1), index=index, columns=columns)
    labels = made.parts.labels
    pairs = [(value, label) for value in shown for label in labels]
    table = np.stack([one.reshape(-1) for one in (middle, low, high)], axis=1)
    index = pd.MultiIndex.from_tuples(pairs, names=[predictor, "probability of"])
    return pd.DataFrame(table, index=index, columns=columns)


def contrast_table(
    made: RegressionDraws,
    data: pd.DataFrame,
    one: Mapping[str, Any],
    other: Mapping[str, Any],
    at: Mapping[str, Any],
    level: float,
    kind: IntervalKind,
) -> pd.DataFrame:
    """See `RegressionFindings.contrast`."""
    if not one or not other:
        raise ArgumentError("Give two settings, such as {'hours': 6} and {'hours': 2}.")
    first, second = (
        _grid(made.parts, data, next(iter(side)), {**at, **side}, [next(iter(side.values()))])[0]
        for side in (one, other)
    )
    means = _expected(made, pd.concat([first, second], ignore_index=True))
    if means.ndim == 2:
        numbers = {"difference": means[:, 0] - means[:, 1]}
        if (means > 0).all():
            numbers["ratio"] = means[:, 0] / means[:, 1]
    else:
        numbers = {
            f"difference, {label}": means[:, 0, k] - means[:, 1, k]
            for k, label in enumerate(made.parts.labels)
        }
    chained = {key: value.reshape(made.chains, -1) for key, value in numbers.items()}
    table = make_table(chained, level, kind, one_sided=("ratio",))
    return table_frame(table, "contrast")


def _expected(made: RegressionDraws, rows: pd.DataFrame) -> np.ndarray:
    """Return expected outcomes of rows with group effects at 0, (draws, rows[, labels])."""
    shapes = made.shapes()
    if made.parts.scale_design is not None:
        # The noise of the average row, where a mean rests on it.
        shapes["scale"] = shapes["scale"].mean(axis=1, keepdims=True)
    elif made.parts.weights is not None:
        shapes["scale"] = made.posterior.draws.get("noise").reshape(-1)[made.keep][:, None]
    return made.means(made.predictor(made.parts.design.rows(rows)), shapes)


def _grid(
    parts: RegressionParts,
    data: pd.DataFrame,
    predictor: str,
    at: Mapping[str, Any],
    values: Sequence[Any] | None,
) -> tuple[pd.DataFrame, list[Any]]:
    formula = parts.design.formula
    for name in (predictor, *at):
        if name not in formula.columns:
            raise ArgumentError(
                f"The formula does not use `{name}`.{nearest(str(name), formula.columns)} "
                f"Columns: {', '.join(formula.columns)}."
            )
    if values is None:
        if predictor in parts.design.levels:
            values = list(parts.design.levels[predictor])
        else:
            column = data[predictor].to_numpy(float)
            values = list(np.linspace(column.min(), column.max(), _PLACES))
    shown = list(values)
    if not shown:
        raise ArgumentError("`values` is empty.")
    row: dict[str, Any] = {}
    for name in formula.columns:
        held = at.get(name)
        if held is None:
            levels = parts.design.levels.get(name)
            held = levels[0] if levels else float(data[name].to_numpy(float).mean())
        row[name] = [held] * len(shown)
    row[predictor] = shown
    return pd.DataFrame(row), shown
