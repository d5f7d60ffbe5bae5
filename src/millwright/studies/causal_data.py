"""Columns of a causal graph in data."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np
import pandas as pd

from millwright.errors import ArgumentError, nearest
from millwright.studies.reading import complete_rows, numbers_in, table_of

__all__ = ["columns_of", "regressed", "standardised"]


def columns_of(data: Any, names: Iterable[str]) -> tuple[pd.DataFrame, str]:
    """Return the complete rows of some columns, and a sentence that counts those left out.

    Raises
    ------
    ArgumentError
        For a node that the data lack.
    DataError
        If no row is complete, or a number is not finite.
    """
    frame = table_of(data)
    wanted = list(names)
    for name in wanted:
        if name not in frame.columns:
            raise ArgumentError(
                f"The graph has `{name}`, and the data have no such column."
                f"{nearest(name, frame.columns)} If it is not observed, say so: "
                f"unobserved=[{name!r}]."
            )
    table, remarks = complete_rows(frame[wanted], "drop")
    for name in wanted:
        if pd.api.types.is_numeric_dtype(table[name]):
            numbers_in(table, name, "given")
    return table.reset_index(drop=True), " ".join(remarks)


def standardised(column: pd.Series) -> np.ndarray | None:
    """Return a column of numbers as z scores; None for labels, or numbers that do not vary."""
    if not pd.api.types.is_numeric_dtype(column):
        return None
    values = column.to_numpy(float)
    spread = values.std(ddof=1) if len(values) > 1 else 0.0
    return None if spread <= 0 else (values - values.mean()) / spread


def regressed(
    outcome: np.ndarray, predictors: list[np.ndarray]
) -> tuple[np.ndarray, np.ndarray, int] | None:
    """Return slopes, their standard errors and degrees of freedom; None if they are not known.

    With flat priors of slopes and of the log of the noise, the posterior of each slope is a t
    distribution of these (Gelman et al. 2013, section 14.2).
    """
    values = np.column_stack([np.ones(len(outcome)), *predictors])
    df = len(outcome) - values.shape[1]
    if df < 1 or np.linalg.matrix_rank(values) < values.shape[1]:
        return None
    inverse = np.linalg.inv(values.T @ values)
    slopes = inverse @ values.T @ outcome
    left = outcome - values @ slopes
    errors = np.sqrt(left @ left / df * np.diag(inverse))
    return slopes[1:], errors[1:], df
