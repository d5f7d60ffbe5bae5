"""What random walks share: tuned proposals, learned from the chain's own draws.

In warm-up the covariance is learned in growing windows (Haario, Saksman and Tamminen 2001) and
the scale is tuned to the acceptance that suits the dimension (Roberts, Gelman and Gilks 1997;
Roberts and Rosenthal 2001: 0.44 in one dimension, towards 0.234 in many); both are then fixed.
"""

from __future__ import annotations

import numpy as np

from millwright.errors import ArgumentError, StartError
from millwright.sampling.methods import RandomWalk
from millwright.sampling.mode import Peak, find_peak
from millwright.sampling.mode_by_values import find_peak_by_values
from millwright.sampling.start_points import pulled_in
from millwright.sampling.target import TargetDensity

__all__ = [
    "acceptance_for",
    "first_factor",
    "first_scale",
    "good_start",
    "learned_factor",
    "peak_of",
    "steps_for",
    "walk_start",
]


def acceptance_for(dimension: int) -> float:
    """Return the acceptance at which a normal random walk moves fastest."""
    return 0.234 + 0.206 / dimension


def steps_for(dimension: int) -> int:
    """Return how many steps make one kept draw: the walk's memory grows with dimension."""
    return min(50, 4 + 2 * dimension)


def first_scale(dimension: int) -> float:
    """Return the logarithm of the scale that suits a normal target of known covariance."""
    return float(np.log(2.38 / np.sqrt(dimension)))


def good_start(
    target: TargetDensity,
    generator: np.random.Generator,
    wanted: int = 1,
    tried: int = 20,
    chain: int | None = None,
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Take the likeliest of a few candidates, so that a walk need not climb far.

    A chain (counted from 0) whose beginning is settled begins there.

    Returns
    -------
    Points of shape (wanted, dimension), their log densities, and the spread of the candidates.

    Raises
    ------
    StartError
        If too few candidates have a finite density.
    """
    candidates = target.starts(generator, max(100, 5 * tried * wanted))
    spread = np.nanstd(candidates, axis=0)
    spread = np.where(np.isfinite(spread) & (spread > 0), spread, 1.0)
    settled = None if chain is None else target.beginning(chain)
    if settled is not None:
        return settled[None], target.plain(settled[None]), spread
    values = target.plain(candidates)
    if not np.isfinite(values).any():
        candidates = np.concatenate([candidates, pulled_in(candidates)])
        values = target.plain(candidates)
    finite = np.flatnonzero(np.isfinite(values))[: tried * wanted]
    if len(finite) < wanted:
        raise StartError(
            f"No starting point: the log density was not finite at {len(values) - len(finite)} "
            f"of {len(values)} points drawn from the prior. {target.explain(candidates)}"
        )
    best = finite[np.argsort(-values[finite], kind="stable")[:wanted]]
    return candidates[best], values[best], spread


def first_factor(
    method: RandomWalk, target: TargetDensity, seed: int, spread: np.ndarray
) -> np.ndarray:
    """Return the Cholesky factor of the first proposals' covariance.

    Raises
    ------
    ArgumentError
        If the stated covariance does not fit the target, or there is no curvature at the mode.
    """
    dimension = target.dimension
    at_mode = method.start == "mode" and method.learns
    if isinstance(method.covariance, np.ndarray):
        if len(method.covariance) != dimension:
            raise ArgumentError(
                f"`covariance` has {len(method.covariance)} rows; the target has {dimension} "
                "unconstrained coordinates."
            )
        return np.linalg.cholesky(method.covariance)
    if method.covariance == "warm-up" and not at_mode:
        return np.diag(spread)
    try:
        return np.linalg.cholesky(np.linalg.inv(-peak_of(target, seed).hessian))
    except np.linalg.LinAlgError:
        if at_mode:
            return np.diag(spread)
        raise ArgumentError(
            "The curvature at the highest point found is not that of a peak: let the warm-up give "
            "the covariance."
        ) from None


def peak_of(target: TargetDensity, seed: int) -> Peak:
    """Return the highest point of a target, with or without its gradient."""
    return find_peak(target, seed) if target.traceable else find_peak_by_values(target, seed)


def walk_start(
    method: RandomWalk,
    target: TargetDensity,
    generator: np.random.Generator,
    seed: int,
    chain: int,
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return where a random walk begins; see `good_start`."""
    found = good_start(target, generator, chain=chain)
    if method.start == "prior" or target.beginning(chain) is not None:
        return found
    position = peak_of(target, seed).position[None]
    return position, target.plain(position), found[2]


def learned_factor(window: np.ndarray, before: np.ndarray) -> np.ndarray:
    """Return the factor of a window's covariance, shrunk a little towards its diagonal.

    Parameters
    ----------
    window
        Shape (draws, dimension).
    before
        Kept if the chain did not move in some direction.
    """
    n, dimension = window.shape
    if n < 2:
        return before
    covariance = np.atleast_2d(np.cov(window.T))
    weight = n / (n + 2 * dimension)
    mixed = weight * covariance + (1 - weight) * np.diag(np.diag(covariance))
    if not np.isfinite(mixed).all() or np.linalg.eigvalsh(mixed)[0] <= 0:
        return before
    return np.linalg.cholesky(mixed)
