"""Cross-validation by fits without groups of rows, or without folds of them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from scipy.special import logsumexp

from millwright.accuracy.cross_validation import CrossValidation
from millwright.accuracy.pointwise import log_likelihood_of, outcome_rows
from millwright.checks import check_whole
from millwright.diagnostics.convergence import mean_size
from millwright.diagnostics.smoothing import highest_good_k, smoothed_log_weights
from millwright.diagnostics.verdict import Verdict
from millwright.errors import ArgumentError, DataError, ModelError, nearest
from millwright.fitting.fit import Fit
from millwright.modelling.binding import Binding
from millwright.modelling.labelled import is_rows
from millwright.modelling.left_out import likelihood_axes
from millwright.posterior.left_out import LARGEST_ERROR, Places, bridged_each, weights_without
from millwright.posterior.refits import fits_weighed
from millwright.sampling.progress import Listener
from millwright.sampling.streams import Stream, generator_of

__all__ = ["cross_validation"]

_FOLDS = 10


def cross_validation(
    fit: Fit,
    verdict: Verdict,
    folds: int | None,
    by: str | Sequence[Any] | np.ndarray | None,
    seed: int,
    listener: Listener,
) -> CrossValidation:
    """Predict parts of the data from fits without them; see `Posterior.cross_validation`."""
    if folds is not None and by is not None:
        raise ArgumentError("Give either `folds` or `by`.")
    _check_fit(fit, verdict)
    axis = _one_axis(fit.draws.binding)
    size = fit.draws.binding.program.size_of[axis]
    if by is not None:
        return _by_group(fit, by, axis, size, listener)
    folds = min(_FOLDS, size) if folds is None else folds
    check_whole("folds", folds, 2)
    if folds > size:
        raise ArgumentError(f"{folds} folds are more than the {size} rows.")
    return _in_folds(fit, folds, size, seed, listener)


def _check_fit(fit: Fit, verdict: Verdict) -> None:
    if not fit.record.origin.of_posterior:
        raise ModelError(
            "Cross-validation fits the model again, which takes draws of its posterior that were "
            "made here. Fit the model: model.fit(data)."
        )
    if not verdict.sound:
        raise ModelError(
            f"Cross-validation needs draws without doubts. The verdict: {verdict.headline}"
        )


def _one_axis(binding: Binding) -> str:
    """Return the one axis of rows along which all outcomes can be left out."""
    axes = {likelihood_axes(binding, part) for part in binding.program.outcomes}
    if len(axes) == 1:
        only = next(iter(axes))
        if len(only) == 1 and is_rows(only[0]):
            return only[0]
    raise ModelError(
        "Cross-validation needs outcomes with one value a row of one table, whose rows do not "
        "depend on each other given the unknowns."
    )


def _by_group(
    fit: Fit, by: str | Sequence[Any] | np.ndarray, axis: str, size: int, listener: Listener
) -> CrossValidation:
    binding = fit.draws.binding
    labels, heading = _labels(binding, by, axis, size)
    seen = outcome_rows(fit.draws)
    units: dict[Any, dict[str, list[int]]] = {}
    for name, number in seen:
        unit = units.setdefault(labels[number - 1], {})
        unit.setdefault(name, []).append(number - 1)
    if len(units) < 2:
        raise ArgumentError(f"`by` must cut the rows into two groups or more, not {len(units)}.")
    found, failures = bridged_each(fit, units, listener)
    values = np.array([found.get(unit, (np.nan, np.nan)) for unit in units])
    return CrossValidation(
        rows=tuple(units),
        elpd_by_row=values[:, 0],
        error_by_row=values[:, 1],
        sizes=np.array([sum(map(len, places.values())) for places in units.values()]),
        largest_error=LARGEST_ERROR,
        folds=len(units),
        by=heading,
        failures=failures,
    )


def _labels(
    binding: Binding, by: str | Sequence[Any] | np.ndarray, axis: str, size: int
) -> tuple[list[Any], str]:
    """Return the group of each row, and what the groups are called."""
    if not isinstance(by, str):
        labels = list(np.asarray(by).ravel())
        if len(labels) != size:
            raise DataError(
                f"`by` has {len(labels)} labels, but the fit used {size} rows: give one for each "
                "of them."
            )
        return labels, "group"
    columns = binding.tables.columns
    known = [name for name, column in columns.items() if column.axes == (axis,)]
    if by not in known:
        raise DataError(
            f"`by` names no column of the rows that the model uses.{nearest(by, known)} Of a "
            "column that it does not use, give the values: one label a row."
        )
    if columns[by].missing().any():
        raise DataError(f"The column `{by}` has rows without a value: their group is not known.")
    values = np.asarray(columns[by].values)
    if values.dtype.kind == "f" and (values == np.rint(values)).all():
        # Labels that are whole numbers are read as numbers with a fraction.
        values = values.astype(int)
    return values.tolist(), by


def _in_folds(fit: Fit, folds: int, size: int, seed: int, listener: Listener) -> CrossValidation:
    binding = fit.draws.binding
    generator = generator_of(seed, Stream.FOLDS)
    fold_of = generator.permutation(np.arange(size) % folds)
    rows = outcome_rows(fit.draws)
    outcomes = [part.name for part in binding.program.outcomes]
    places: dict[int, dict[str, list[int]]] = {fold: {} for fold in range(folds)}
    for name, number in rows:
        places[int(fold_of[number - 1])].setdefault(name, []).append(number - 1)
    weights = {fold + 1: weights_without(binding, outcomes, some) for fold, some in places.items()}
    fits = fits_weighed(fit, weights, listener)
    found: dict[tuple[str, int], tuple[float, float]] = {}
    for fold, other in fits.fits.items():
        found |= _scored(other, places[fold - 1])
    values = np.array([found.get(row, (np.nan, np.nan)) for row in rows])
    return CrossValidation(
        rows=rows,
        elpd_by_row=values[:, 0],
        error_by_row=values[:, 1],
        sizes=np.ones(len(rows), dtype=int),
        largest_error=LARGEST_ERROR,
        folds=folds,
        failures=dict(fits.failures),
    )


def _scored(other: Fit, places: Places) -> dict[tuple[str, int], tuple[float, float]]:
    """Return log predictive densities of rows that a fit has not seen, with their errors."""
    result = {}
    shape = other.draws.shape
    for name, some in places.items():
        log_lik = log_likelihood_of(other.draws, name, some)
        highest = log_lik.max(axis=0)
        scaled = np.exp(log_lik - highest)
        means = logsumexp(log_lik, axis=0) - np.log(len(log_lik))
        sizes = mean_size(scaled.reshape(*shape, -1))
        relative = scaled.std(axis=0) / scaled.mean(axis=0) / np.sqrt(sizes)
        errors = np.where(np.isfinite(sizes), relative, 0.0)
        limit = highest_good_k(len(log_lik))
        for at, place in enumerate(some):
            # A mean that rests on a few draws does not see its own error.
            heavy = smoothed_log_weights(log_lik[:, at])[1] > limit
            error = float("inf") if heavy else float(errors[at])
            result[name, place + 1] = (float(means[at]), error)
    return result
