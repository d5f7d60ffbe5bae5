"""What follows from coefficients of a vector autoregression: responses, shares, forecasts."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from millwright.errors import ArgumentError

__all__ = ["Ahead", "ahead", "drawn_given", "largest_roots", "moved", "shares_of_errors"]

_SINGULAR = 1e-12
_MET = 1e-5


def lag_matrices(coefficients: np.ndarray, lags: int) -> np.ndarray:
    """Return slopes on each past, (..., lags, n, n), from coefficients (..., n, terms)."""
    n = coefficients.shape[-2]
    slopes = coefficients[..., 1 : 1 + lags * n]
    shaped = slopes.reshape(*slopes.shape[:-1], lags, n)
    return np.moveaxis(shaped, -2, -3)


def largest_roots(coefficients: np.ndarray, lags: int) -> np.ndarray:
    """Return the largest modulus of a root of each system: below 1 it is stable.

    Parameters
    ----------
    coefficients
        Shape (..., n, terms).
    """
    matrices = lag_matrices(coefficients, lags)
    n = matrices.shape[-1]
    whole = np.zeros((*matrices.shape[:-3], n * lags, n * lags))
    for lag in range(lags):
        whole[..., :n, lag * n : (lag + 1) * n] = matrices[..., lag, :, :]
    for lag in range(1, lags):
        at = slice(lag * n, (lag + 1) * n), slice((lag - 1) * n, lag * n)
        whole[..., at[0], at[1]] = np.eye(n)
    return np.asarray(np.abs(np.linalg.eigvals(whole)).max(axis=-1))


def moved(matrices: np.ndarray, horizon: int) -> np.ndarray:
    """Return how an error moves the series later, (draws, horizon + 1, n, n).

    Parameters
    ----------
    matrices
        Slopes on each past, (draws, lags, n, n).
    """
    draws, lags, n, _ = matrices.shape
    found = np.zeros((draws, horizon + 1, n, n))
    found[:, 0] = np.eye(n)
    for later in range(1, horizon + 1):
        for lag in range(1, min(lags, later) + 1):
            found[:, later] += matrices[:, lag - 1] @ found[:, later - lag]
    return found


def impacts(covariance: np.ndarray, order: list[int], generalised: bool, unit: bool) -> np.ndarray:
    """Return what each shock does at once, (draws, n, shocks), in the order of the series.

    Parameters
    ----------
    order
        Places of the series in the order of the decomposition.
    generalised
        Whether errors move together as they usually do (Pesaran and Shin 1998), for any order.
    unit
        Whether shocks are of one unit in place of one sd.
    """
    sd = np.sqrt(np.einsum("...jj->...j", covariance))
    if generalised:
        found = covariance / sd[..., None, :]
    else:
        turned = np.linalg.cholesky(covariance[..., order, :][..., order])
        back = np.argsort(order)
        found = turned[..., back, :][..., back]
    if unit:
        found = found / np.einsum("...jj->...j", found)[..., None, :]
    return np.asarray(found)


def shares_of_errors(moves: np.ndarray, impact: np.ndarray) -> np.ndarray:
    """Return shares of each series' forecast variance by shock, (draws, horizon, n, shocks).

    Entry h is for forecasts h + 1 steps ahead; shocks are uncorrelated.
    """
    squares = np.cumsum((moves @ impact[:, None]) ** 2, axis=1)
    return np.asarray(squares / squares.sum(axis=-1, keepdims=True))


@dataclass(frozen=True, kw_only=True)
class Ahead:
    """Draws of the future, (draws, steps, n), and the normal distribution behind each draw."""

    draws: np.ndarray = field(repr=False)
    means: np.ndarray = field(repr=False)
    spreads: np.ndarray = field(repr=False)


def ahead(
    coefficients: np.ndarray,
    covariance: np.ndarray,
    past: np.ndarray,
    middle: np.ndarray,
    others: np.ndarray,
    stated: np.ndarray,
    generator: np.random.Generator,
) -> Ahead:
    """Draw the future given coefficients at each of its steps.

    Given coefficients the readings to come are normal, so stated ones are conditioned on exactly,
    those later in time too; coefficients are taken as drawn without them.

    Parameters
    ----------
    coefficients
        At each step, (draws, steps, n, terms).
    covariance
        Of errors at each step, or at all alike, (draws, steps or 1, n, n).
    past
        The last readings, (draws, lags, n), the latest last.
    middle
        From where the series are counted, (n,).
    others
        Other columns at each step, (steps, others), around their means.
    stated
        Readings that are known, (steps, n); NaN where none is.
    """
    draws, steps, n, _ = coefficients.shape
    lags = past.shape[1]
    root = np.linalg.cholesky(covariance)
    means = np.empty((draws, steps, n))
    spreads = np.zeros((draws, steps, n, steps, n))
    before = past - middle
    for at in range(steps):
        now = coefficients[:, at]
        matrices = lag_matrices(now, lags)
        means[:, at] = now[..., 0] + now[..., 1 + lags * n :] @ others[at]
        for lag in range(1, lags + 1):
            if lag > at:
                there = before[:, lags + at - lag]
                means[:, at] += np.einsum("dij,dj->di", matrices[:, lag - 1], there)
                continue
            there = means[:, at - lag] - middle
            means[:, at] += np.einsum("dij,dj->di", matrices[:, lag - 1], there)
            spreads[:, at] += np.einsum(
                "dij,djtk->ditk", matrices[:, lag - 1], spreads[:, at - lag]
            )
        spreads[:, at, :, at] += root[:, min(at, root.shape[1] - 1)]
    return drawn_given(means, spreads.reshape(draws, steps * n, steps * n), stated, generator)


def drawn_given(
    means: np.ndarray, spreads: np.ndarray, stated: np.ndarray, generator: np.random.Generator
) -> Ahead:
    """Draw readings that are jointly normal in each draw, given those that are stated.

    Parameters
    ----------
    means
        (draws, steps, n).
    spreads
        Roots of covariances, (draws, steps n, errors).
    stated
        Readings that are known, (steps, n); NaN where none is.

    Raises
    ------
    ArgumentError
        For stated readings that cannot be together.
    """
    draws, steps, n = means.shape
    errors = generator.standard_normal((draws, spreads.shape[-1]))
    known = ~np.isnan(stated)
    if known.any():
        held = spreads[:, known.reshape(-1)]
        wanted = stated[known] - means[:, known]
        lacking = wanted - np.einsum("dij,dj->di", held, errors)
        across = held.transpose(0, 2, 1)
        inverse = np.linalg.pinv(held @ across, rcond=_SINGULAR, hermitian=True)
        errors = errors + (across @ (inverse @ lacking[..., None]))[..., 0]
        left = np.abs(wanted - np.einsum("dij,dj->di", held, errors))
        if (left > _MET * (np.abs(held).sum(axis=-1) + np.abs(wanted))).any():
            raise ArgumentError(
                "The stated readings cannot be together: what is left to chance does not reach "
                "them all. State fewer."
            )
    found = means + np.einsum("dij,dj->di", spreads, errors).reshape(draws, steps, n)
    found[:, known] = stated[known]
    return Ahead(draws=found, means=means, spreads=spreads)
