"""Draws of coefficients over subsets, each subset by its weight.

Given a subset and g, with s = g / (1 + g): the noise's variance is inverse gamma with shape
(n - 1) / 2 and scale SST (1 - s R^2) / 2, the intercept at the means of the columns normal around
the mean of the outcome, and the slopes normal around s times those of least squares with variance
s sigma^2 (X'X)^-1 (Zellner 1986; Liang et al. 2008, section 2).
"""

from __future__ import annotations

import numpy as np

from millwright.studies.selection_data import Candidates
from millwright.subsets.explore import Explored
from millwright.subsets.weights import GPrior

__all__ = ["columns_in", "drawn_over_subsets", "least_squares", "shrinkage_quantiles"]


def least_squares(made: Candidates, columns: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return slopes of columns of length 1 on an outcome of length 1, and (X'X)^-1."""
    values = made.values[:, columns]
    inverse = np.linalg.inv(values.T @ values)
    outcome = (made.readings - made.readings.mean()) / made.outcome_length
    return inverse @ (values.T @ outcome), inverse


def columns_in(made: Candidates, included: np.ndarray) -> np.ndarray:
    """Return numbers of the columns of the terms that are in."""
    return np.flatnonzero(np.repeat(included, np.diff(made.first)))


def drawn_over_subsets(
    made: Candidates,
    prior: GPrior,
    explored: Explored,
    generator: np.random.Generator,
    count: int,
) -> dict[str, np.ndarray]:
    """Return independent draws of intercept, coefficients and noise on the scale of the data."""
    chances = explored.shares / explored.shares.sum()
    which = generator.choice(len(chances), size=count, p=chances)
    slopes = np.zeros((count, len(made.names)))
    variance = np.zeros(count)
    for at in np.unique(which):
        rows = np.flatnonzero(which == at)
        columns = columns_in(made, explored.kept[at])
        shrunk = _shrinkage(prior, explored, int(at), generator, len(rows))
        left = 1 - shrunk * explored.explained[at]
        variance[rows] = 0.5 * left / generator.standard_gamma(0.5 * (made.rows - 1), len(rows))
        if len(columns):
            middle, inverse = least_squares(made, columns)
            noise = generator.standard_normal((len(rows), len(columns)))
            spread = np.sqrt(shrunk * variance[rows])[:, None]
            slopes[np.ix_(rows, columns)] = (
                shrunk[:, None] * middle + spread * noise @ np.linalg.cholesky(inverse).T
            )
    length = made.outcome_length
    noise_sd = length * np.sqrt(variance)
    coefficient = slopes * length / made.length
    level = made.readings.mean() + noise_sd / np.sqrt(made.rows) * generator.standard_normal(count)
    return {
        "intercept": level - coefficient @ made.middle,
        "coefficient": coefficient,
        "noise": noise_sd,
    }


def _shrinkage(
    prior: GPrior, explored: Explored, at: int, generator: np.random.Generator, count: int
) -> np.ndarray:
    """Return draws of s given a subset."""
    columns = int(explored.columns[at])
    if columns == 0:
        return np.zeros(count)
    g, logs = prior.log_weights(columns, np.asarray(explored.explained[at]))
    if len(g) == 1:
        return np.full(count, g[0] / (1 + g[0]))
    return shrinkage_quantiles(g, logs, generator.random(count))


def shrinkage_quantiles(g: np.ndarray, logs: np.ndarray, shares: np.ndarray) -> np.ndarray:
    """Return quantiles of s = g / (1 + g) from logs of masses at places of g."""
    masses = np.exp(logs - logs.max())
    cumulated = (np.cumsum(masses) - 0.5 * masses) / masses.sum()
    # Between neighbouring places in proportion, so that draws are not those of a lattice.
    return np.asarray(-np.expm1(-np.interp(shares, cumulated, np.log1p(g))))
