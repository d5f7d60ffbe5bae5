"""How far the coefficients of series move, and whether they move at all."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import pandas as pd
from scipy.special import logsumexp

from millwright.draws.intervals import interval, kind_words
from millwright.errors import ArgumentError
from millwright.evidence.bayes_factor import factor_words
from millwright.sampling.streams import Stream, generator_of
from millwright.sweeps.chain import standing_still
from millwright.sweeps.problem import writable

if TYPE_CHECKING:
    from millwright.studies.autoregression_findings import AutoregressionFindings

__all__ = ["ERROR", "drifts_of", "factors_of_standing_still"]

ERROR = "log sd of errors"


def factors_of_standing_still(found: AutoregressionFindings) -> np.ndarray:
    """Return log Bayes factors for what never moves; see `AutoregressionFindings.still`."""
    parts = found.study.parts
    kept = writable(parts.kept(found.posterior.draws))
    logs = standing_still(writable(parts.problem), kept, generator_of(0, Stream.SWEEPS))
    chains, draws = found.posterior.draws.shape
    total = logsumexp(logs, axis=0) - np.log(len(logs))
    # The error over chains' halves: draws of a chain follow each other.
    ratios = np.exp(logs - total).reshape(chains, draws, -1)
    half = max(draws // 2, 1)
    halves = np.concatenate([ratios[:, :half].mean(axis=1), ratios[:, -half:].mean(axis=1)])
    error = halves.std(axis=0, ddof=1) / np.sqrt(chains * 2)
    n, terms = parts.size
    both = np.stack([total, error])
    coefficients = both[:, : n * terms].reshape(2, n, terms)
    return np.concatenate([coefficients, both[:, n * terms :, None]], axis=2)


def drifts_of(found: AutoregressionFindings) -> pd.DataFrame:
    """Return how far each coefficient moves; see `AutoregressionFindings.drifts`."""
    parts, draws = found.study.parts, found.posterior.draws
    if not parts.changes:
        raise ArgumentError("Nothing drifts here: give `drift` or `error_drift` above 0.")
    words = kind_words(found.kind, found.level)
    logs, errors = found.still
    rows = {}
    for j, series in enumerate(parts.data.series):
        for r, term in enumerate((*parts.data.terms, ERROR)):
            of_error = r == len(parts.data.terms)
            if not (parts.errors_drift if of_error else parts.step_scale[j, r] > 0):
                continue
            name = f"log_sd_{j + 1}" if of_error else parts.name(j, r)
            step = draws.get(f"{name}_drift").reshape(-1)
            low, high = interval(step, found.level, found.kind)
            path = np.log(found.sizes[:, :, j]) if of_error else found.path(j, r)
            log = -float(logs[j, r])
            rows[series, term] = {
                "median sd of a step": np.median(step),
                f"{words}, from": float(low),
                f"{words}, to": float(high),
                "median range over all times": float(np.median(np.ptp(path, axis=1))),
                "log Bayes factor of moving": log,
                "its error": float(errors[j, r]),
                "in words": _words(log),
            }
    return pd.DataFrame(rows).T.rename_axis(["series", "term"])


def _words(log: float) -> str:
    """Return a Bayes factor of moving in words."""
    if log >= 0:
        return factor_words(log, "moving")
    return factor_words(-log, "standing still")
