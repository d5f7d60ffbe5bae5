"""Weights of models from how well they predict rows that were left out."""

from __future__ import annotations

import numpy as np
from scipy.optimize import minimize
from scipy.special import logsumexp

__all__ = ["bootstrap_weights", "stacking_weights"]

_COPIES = 1000


def stacking_weights(by_row: np.ndarray) -> np.ndarray:
    """Return the weights whose averaged prediction has the best leave-one-out log score.

    Yao, Vehtari, Simpson and Gelman (2018), "Using stacking to average Bayesian predictive
    distributions", Bayesian Analysis 13, equation 5.

    Parameters
    ----------
    by_row
        Log predictive density of each left-out row under each model, shape (rows, models).
    """
    count = by_row.shape[1]
    scaled = np.exp(by_row - by_row.max(axis=1, keepdims=True))

    def loss(weights: np.ndarray) -> tuple[float, np.ndarray]:
        mixed = np.maximum(scaled @ weights, 1e-300)
        return -float(np.mean(np.log(mixed))), -np.mean(scaled / mixed[:, None], axis=0)

    found = minimize(
        loss,
        np.full(count, 1 / count),
        jac=True,
        method="SLSQP",
        bounds=[(0.0, 1.0)] * count,
        constraints={"type": "eq", "fun": lambda w: w.sum() - 1, "jac": np.ones_like},
        options={"maxiter": 1000, "ftol": 1e-12},
    )
    weights = np.clip(found.x, 0.0, 1.0)
    return np.asarray(weights / weights.sum())


def bootstrap_weights(by_row: np.ndarray, generator: np.random.Generator) -> np.ndarray:
    """Return weights in proportion to exp(elpd), averaged over Bayesian bootstraps of the rows.

    The bootstrap (Rubin 1981) lets the weights know how uncertain elpd is (Yao et al. 2018,
    section 3.4). `by_row` is as for `stacking_weights`.
    """
    rows = len(by_row)
    shares = generator.dirichlet(np.ones(rows), size=_COPIES)
    logs = rows * shares @ by_row
    weights = np.exp(logs - logsumexp(logs, axis=1, keepdims=True))
    return np.asarray(weights.mean(axis=0))
