"""A dense metric from few draws and the gradients at them.

The metric S makes the Fisher divergence (Hyvarinen 2005, "Estimation of non-normalized
statistical models by score matching", Journal of Machine Learning Research 6) from the draws to a
normal density with the covariance S smallest. It solves S G S = C, where C and G are the
covariances of draws and gradients, and so is the geometric mean of C and the inverse of G (Bhatia
2007, "Positive Definite Matrices", section 4.1). Draws show the wide directions and gradients the
narrow ones, so that half as many draws as dimensions say nearly all; a covariance takes several
draws a dimension.
"""

from __future__ import annotations

import numpy as np

__all__ = ["FEWEST", "scale_by_gradients"]

FEWEST = 20
"""Draws of a window that say anything."""

# Variances that draws and gradients are taken to have in directions that they do not show.
_ADDED = 0.01
# How much nearer to a normal distribution draws must come that the metric was not learned from.
_NEARER = 0.7
_RANK = 1e-10


def scale_by_gradients(
    draws: np.ndarray, gradients: np.ndarray, sd: np.ndarray, ratio: float
) -> np.ndarray | None:
    """Return the Cholesky factor of a metric, or nothing where a diagonal one does.

    What the first half of a window says must hold for the second: a density that is far from
    normal has no such metric.

    Parameters
    ----------
    draws, gradients
        Of a window, and of the log density there, shape (draws, dimension) each.
    sd
        Scales of the diagonal metric.
    ratio
        Of the largest to the smallest eigenvalue, in units of `sd`, from which on it pays.
    """
    with np.errstate(over="ignore", invalid="ignore"):
        try:
            return _chosen(draws / sd, gradients * sd, sd, ratio)
        except np.linalg.LinAlgError:
            # Squares beyond what numbers can hold: the warm-up has not come to the bulk yet.
            return None


def _chosen(z: np.ndarray, slopes: np.ndarray, sd: np.ndarray, ratio: float) -> np.ndarray | None:
    half = len(z) // 2
    if not all(_moves(part) for values in (z, slopes) for part in (values[:half], values[half:])):
        return None
    metric = _mean_of_both(z, slopes)
    sizes = np.linalg.eigvalsh(metric)
    if not sizes[0] > 0 or sizes[-1] < ratio * sizes[0]:
        return None
    first = _factor(_mean_of_both(z[:half], slopes[:half]))
    late = _centred(z[half:]), _centred(slopes[half:])
    if first is None or not _divergence(first, *late) < _NEARER * _divergence(None, *late):
        return None
    factor = _factor(metric)
    return None if factor is None else sd[:, None] * factor


def _moves(values: np.ndarray) -> bool:
    return bool(np.isfinite(values).all() and np.ptp(values, axis=0).any())


def _centred(values: np.ndarray) -> np.ndarray:
    return np.asarray(values - values.mean(axis=0))


def _mean_of_both(z: np.ndarray, slopes: np.ndarray) -> np.ndarray:
    """Return the geometric mean in the space that draws and gradients span, and 1 beyond it."""
    n, dimension = z.shape
    both = [_centred(values) for values in (z, slopes)]
    spanning = np.concatenate([values / np.linalg.norm(values) for values in both])
    _, sizes, ways = np.linalg.svd(spanning, full_matrices=False)
    basis = ways[sizes > _RANK * sizes[0]].T
    own = np.eye(basis.shape[1])
    wide, steep = ((values @ basis).T @ (values @ basis) / n + _ADDED * own for values in both)
    root, inverse = _roots(steep)
    inner, _ = _roots(root @ wide @ root)
    found = np.eye(dimension) + basis @ (inverse @ inner @ inverse - own) @ basis.T
    return np.asarray(0.5 * (found + found.T))


def _roots(matrix: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return the symmetric square root, and its inverse."""
    sizes, ways = np.linalg.eigh(0.5 * (matrix + matrix.T))
    roots = np.sqrt(np.maximum(sizes, np.finfo(float).tiny))
    return (ways * roots) @ ways.T, (ways / roots) @ ways.T


def _factor(metric: np.ndarray) -> np.ndarray | None:
    try:
        return np.asarray(np.linalg.cholesky(metric))
    except np.linalg.LinAlgError:
        return None


def _divergence(factor: np.ndarray | None, z: np.ndarray, slopes: np.ndarray) -> float:
    """Return the mean square of what gradients are off those of a standard normal density."""
    if factor is not None:
        z, slopes = np.linalg.solve(factor, z.T).T, slopes @ factor
    return float(np.square(slopes + z).sum(axis=1).mean())
