"""A vector autoregression with constant coefficients and the natural conjugate prior, exactly.

Kadiyala and Karlsson (1997), "Numerical methods for estimation and inference in Bayesian
VAR-models", section 2.2: the errors' covariance is inverse Wishart, and coefficients given it are
matrix normal, so that the posterior is of the same form and the evidence a ratio of constants.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
from scipy.special import multigammaln
from scipy.stats import invwishart

if TYPE_CHECKING:
    from millwright.studies.autoregression_model import Autoregression

__all__ = ["Conjugate", "conjugate_posterior"]


@dataclass(frozen=True, kw_only=True)
class Conjugate:
    """The posterior of n series with m terms an equation.

    Attributes
    ----------
    middle
        Means of coefficients, (n, m).
    precision
        Of the coefficients of one equation, times its error's variance, (m, m).
    degrees, scatter
        Of the errors' covariance, inverse Wishart.
    log_evidence
        Of the readings explained.
    """

    middle: np.ndarray = field(repr=False)
    precision: np.ndarray = field(repr=False)
    degrees: float
    scatter: np.ndarray = field(repr=False)
    log_evidence: float

    def draw(self, generator: np.random.Generator, draws: int) -> dict[str, np.ndarray]:
        """Draw unknowns by the names of the visible model, (draws,) each."""
        n, m = self.middle.shape
        law = invwishart(df=self.degrees, scale=self.scatter)
        wide = law.rvs(size=draws, random_state=generator).reshape(draws, n, n)
        lower = np.linalg.cholesky(wide)
        turned = np.linalg.inv(np.linalg.cholesky(self.precision))
        units = generator.standard_normal((draws, n, m))
        coefficients = self.middle + lower @ units @ turned
        sds = np.diagonal(lower, axis1=1, axis2=2)
        rows = np.linalg.inv(lower / sds[:, None, :])
        found = {}
        for j in range(n):
            found[f"variance_{j + 1}"] = sds[:, j] ** 2
            for r in range(m):
                name = f"level_{j + 1}" if r == 0 else f"slope_{j + 1}_{r}"
                found[name] = coefficients[:, j, r]
            for i in range(j):
                found[f"lean_{j + 1}_{i + 1}"] = -rows[:, j, i]
        return found


def conjugate_posterior(parts: Autoregression) -> Conjugate:
    """Return the posterior of an autoregression with a conjugate prior and no missing reading."""
    made = parts.data
    outcomes = made.filled[made.lags :]
    regressors = made.regressors(made.filled)
    times, n = outcomes.shape
    middle, scale = parts.start[0], parts.shared_scale
    before = np.diag(scale**-2)
    precision = before + regressors.T @ regressors
    found = np.linalg.solve(precision, before @ middle.T + regressors.T @ outcomes).T
    left = outcomes - regressors @ found.T
    moved = (found - middle) / scale
    scatter = np.diag(parts.scatter)
    total = scatter + left.T @ left + moved @ moved.T
    degrees = parts.degrees
    log_evidence = (
        -0.5 * times * n * math.log(math.pi)
        + multigammaln(0.5 * (degrees + times), n)
        - multigammaln(0.5 * degrees, n)
        + 0.5 * degrees * np.linalg.slogdet(scatter)[1]
        - 0.5 * (degrees + times) * np.linalg.slogdet(total)[1]
        - 0.5 * n * (2 * np.log(scale).sum() + np.linalg.slogdet(precision)[1])
    )
    return Conjugate(
        middle=found,
        precision=precision,
        degrees=degrees + times,
        scatter=total,
        log_evidence=float(log_evidence),
    )
