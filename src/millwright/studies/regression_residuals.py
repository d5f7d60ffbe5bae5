"""Residuals of a regression: observed less expected, and as scores that any family shares."""

from __future__ import annotations

import numpy as np
import pandas as pd
from scipy.special import ndtri

from millwright.accuracy.pit import leave_one_out_pit
from millwright.errors import ArgumentError
from millwright.sampling.streams import Stream, generator_of
from millwright.studies.regression_draws import RegressionDraws

__all__ = ["residuals_of"]


def residuals_of(made: RegressionDraws) -> pd.DataFrame:
    """Return observed and expected outcome of each row, their difference, and a score.

    Raises
    ------
    ArgumentError
        For outcomes that are labels.
    """
    parts, posterior = made.parts, made.posterior
    if parts.labels:
        raise ArgumentError(
            f"Residuals are of numbers; outcomes of family {parts.family.name} are labels. "
            "findings.posterior.predictive_check() compares how often each label is seen."
        )
    eta = made.predictor(parts.design.values, parts.frame, made.fitted_offset())
    expected = np.median(made.means(eta, made.shapes()), axis=0)
    observed = parts.frame[parts.outcome].to_numpy(float)
    if parts.trials is not None:
        expected = expected * parts.frame[parts.trials].to_numpy(float)
    generator = generator_of(posterior.record.seed, Stream.LEFT_OUT)
    _, below = leave_one_out_pit(posterior.draws, generator, ties="random")
    # No draw lies below the smallest share that the number of draws can tell from 0.
    least = 0.5 / int(np.prod(posterior.draws.shape))
    apart = np.where(_at_limit(observed, parts.censored), np.nan, observed - expected)
    scores = np.full(len(observed), np.nan)
    scores[np.isfinite(observed)] = ndtri(np.clip(below, least, 1 - least))
    return pd.DataFrame(
        {
            "observed": observed,
            "expected": expected,
            "residual": apart,
            "score": scores,
        },
        index=pd.RangeIndex(1, len(observed) + 1, name="row"),
    )


def _at_limit(observed: np.ndarray, censored: tuple[float | None, float | None]) -> np.ndarray:
    """Say which outcomes are known to lie beyond a limit only: their difference is not known."""
    low, high = (bound if bound is not None else np.nan for bound in censored)
    return (observed <= low) | (observed >= high)
