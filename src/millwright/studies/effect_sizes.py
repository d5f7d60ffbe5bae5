"""Estimates with standard errors on scales where they are about normal, from what trials report.

The second group is the one that the first is compared with. All take columns or single numbers,
and return a table with the columns `estimate` and `standard_error`, for
`mw.studies.meta_analysis`.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd
from scipy.special import gammaln

from millwright.errors import ArgumentError, DataError

__all__ = ["fisher_z", "log_odds_ratio", "log_risk_ratio", "logit", "standardised_difference"]


def log_odds_ratio(
    events: Any, total: Any, other_events: Any, other_total: Any, *, correction: float = 0.5
) -> pd.DataFrame:
    """Return log odds ratios of two-by-two counts.

    log(a d / (b c)) with standard error sqrt(1/a + 1/b + 1/c + 1/d) (Woolf 1955).

    Parameters
    ----------
    events, total
        Events and all cases in the first group.
    other_events, other_total
        The same in the second.
    correction
        Added to all four counts of a trial in which one is 0 (Haldane 1956).

    Returns
    -------
    Columns `estimate` and `standard_error`, one row a trial.

    Raises
    ------
    DataError
        For counts that are not whole, negative, or more events than cases.
    """
    a, n, c, m = _counts(
        events=events, total=total, other_events=other_events, other_total=other_total
    )
    cells = np.stack([a, n - a, c, m - c])
    cells = cells + _added(cells, correction)
    estimate = np.log(cells[0]) - np.log(cells[1]) - np.log(cells[2]) + np.log(cells[3])
    return _table(estimate, np.sqrt((1 / cells).sum(axis=0)))


def log_risk_ratio(
    events: Any, total: Any, other_events: Any, other_total: Any, *, correction: float = 0.5
) -> pd.DataFrame:
    """Return log risk ratios of two-by-two counts.

    log((a / n) / (c / m)) with standard error sqrt(1/a - 1/n + 1/c - 1/m) (Katz et al. 1978).

    Parameters
    ----------
    events, total
        Events and all cases in the first group.
    other_events, other_total
        The same in the second.
    correction
        Added to all four counts (so twice to each total) of a trial in which one is 0.

    Returns
    -------
    Columns `estimate` and `standard_error`, one row a trial.

    Raises
    ------
    DataError
        For counts that are not whole, negative, or more events than cases.
    """
    a, n, c, m = _counts(
        events=events, total=total, other_events=other_events, other_total=other_total
    )
    added = _added(np.stack([a, n - a, c, m - c]), correction)
    a, n, c, m = a + added, n + 2 * added, c + added, m + 2 * added
    return _table(np.log(a / n) - np.log(c / m), np.sqrt(1 / a - 1 / n + 1 / c - 1 / m))


def standardised_difference(
    mean: Any, sd: Any, size: Any, other_mean: Any, other_sd: Any, other_size: Any
) -> pd.DataFrame:
    """Return standardised mean differences with the correction for small samples.

    The difference of means over the pooled sd, times
    J = gamma(df / 2) / (sqrt(df / 2) gamma((df - 1) / 2)) (Hedges 1981); its variance is
    (n + m) / (n m) + g^2 / (2 (n + m)) (Hedges and Olkin 1985).

    Parameters
    ----------
    mean, sd, size
        Of the first group.
    other_mean, other_sd, other_size
        Of the second.

    Returns
    -------
    Columns `estimate` and `standard_error`, one row a trial.

    Raises
    ------
    DataError
        For sds that are not above 0, or groups of fewer than two.
    """
    x, s, n, y, t, m = _columns(
        mean=mean,
        sd=sd,
        size=size,
        other_mean=other_mean,
        other_sd=other_sd,
        other_size=other_size,
    )
    _refuse("sds are above 0", (s <= 0) | (t <= 0))
    _refuse("a group has two values or more", (n < 2) | (m < 2))
    df = n + m - 2
    pooled = np.sqrt(((n - 1) * s**2 + (m - 1) * t**2) / df)
    shrink = np.exp(gammaln(df / 2) - gammaln((df - 1) / 2)) / np.sqrt(df / 2)
    estimate = shrink * (x - y) / pooled
    return _table(estimate, np.sqrt((n + m) / (n * m) + estimate**2 / (2 * (n + m))))


def fisher_z(correlation: Any, size: Any) -> pd.DataFrame:
    """Return Fisher's z of correlations.

    atanh(r) with standard error 1 / sqrt(n - 3) (Fisher 1921).

    Parameters
    ----------
    correlation
        Between -1 and 1, ends left out.
    size
        Pairs that each is of; 4 or more.

    Returns
    -------
    Columns `estimate` and `standard_error`, one row a trial.

    Raises
    ------
    DataError
        For correlations or sizes outside their range.
    """
    r, n = _columns(correlation=correlation, size=size)
    _refuse("correlations lie between -1 and 1", np.abs(r) >= 1)
    _refuse("a correlation is of four pairs or more", n < 4)
    return _table(np.arctanh(r), 1 / np.sqrt(n - 3))


def logit(events: Any, total: Any, *, correction: float = 0.5) -> pd.DataFrame:
    """Return logits of shares.

    log(a / (n - a)) with standard error sqrt(1/a + 1/(n - a)).

    Parameters
    ----------
    events, total
        Events and all cases.
    correction
        Added to both counts of a trial in which one is 0.

    Returns
    -------
    Columns `estimate` and `standard_error`, one row a trial.

    Raises
    ------
    DataError
        For counts that are not whole, negative, or more events than cases.
    """
    a, n = _counts(events=events, total=total)
    cells = np.stack([a, n - a])
    cells = cells + _added(cells, correction)
    return _table(np.log(cells[0]) - np.log(cells[1]), np.sqrt((1 / cells).sum(axis=0)))


def _columns(**given: Any) -> list[np.ndarray]:
    """Return columns of equal length as float64."""
    found = []
    for name, values in given.items():
        try:
            column = np.atleast_1d(np.asarray(values, dtype=float))
        except (TypeError, ValueError) as error:
            raise DataError(f"`{name}` is to hold numbers: {error}.") from error
        if column.ndim != 1 or not np.isfinite(column).all():
            raise DataError(f"`{name}` is to be a column of finite numbers, without gaps.")
        found.append(column)
    try:
        return [np.array(column) for column in np.broadcast_arrays(*found)]
    except ValueError as error:
        lengths = ", ".join(f"{n} {len(c)}" for n, c in zip(given, found, strict=True))
        raise DataError(f"The columns differ in length: {lengths}.") from error


def _counts(**given: Any) -> list[np.ndarray]:
    """Return counts in pairs of events and totals, checked."""
    found = _columns(**given)
    for name, column in zip(given, found, strict=True):
        _refuse(f"`{name}` are whole numbers from 0", (column < 0) | (column != np.round(column)))
    for events, total in zip(found[::2], found[1::2], strict=True):
        _refuse("there are cases, and no more events than cases", (events > total) | (total == 0))
    return found


def _added(cells: np.ndarray, correction: float) -> np.ndarray:
    """Return what is added to the counts of each trial."""
    if not (np.isfinite(correction) and correction > 0):
        raise ArgumentError(f"`correction` must be above 0, not {correction!r}.")
    return np.where((cells == 0).any(axis=0), correction, 0.0)


def _refuse(rule: str, wrong: np.ndarray) -> None:
    if wrong.any():
        raise DataError(f"Row {int(np.flatnonzero(wrong)[0]) + 1} cannot be right: {rule}.")


def _table(estimate: np.ndarray, error: np.ndarray) -> pd.DataFrame:
    return pd.DataFrame({"estimate": estimate, "standard_error": error})
