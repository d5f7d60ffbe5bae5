"""Highest-density regions, which may be several pieces."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from millwright.draws.intervals import check_level

if TYPE_CHECKING:
    from scipy.stats import gaussian_kde

__all__ = ["density", "density_on", "highest_density_region"]

_MOST = 4000
_SMALLEST_PIECE = 0.01


def density(values: np.ndarray, points: int = 200) -> tuple[np.ndarray, np.ndarray]:
    """Return a kernel estimate of a density over the range of its draws.

    Parameters
    ----------
    values
        Draws, shape (draws,); of more than 4000 every k-th is used.

    Returns
    -------
    Grid and density, shape (points,) each; one point of height 1 for draws without spread.
    """
    low, high = float(values.min()), float(values.max())
    if high - low <= 1e-12 * max(abs(low), abs(high), 1e-300):
        return np.array([low]), np.array([1.0])
    grid = np.linspace(low, high, points)
    kept = values[:: -(-len(values) // _MOST)]
    return grid, _kernel(kept)(grid)


def density_on(grid: np.ndarray, values: np.ndarray) -> np.ndarray:
    """Return a kernel estimate of a density at given places, from at most 1000 of the values."""
    if np.ptp(values) <= 1e-12 * np.abs(values).max(initial=1e-300):
        return np.zeros(len(grid))
    return np.asarray(_kernel(values[:: -(-len(values) // 1000)])(grid))


def _kernel(values: np.ndarray) -> gaussian_kde:
    """Kernel with Silverman's (1986, eq. 3.31) width, which keeps two humps apart."""
    # Takes longer to load than a small fit takes to sample.
    from scipy.stats import gaussian_kde

    low, high = np.quantile(values, [0.25, 0.75])
    sd = float(values.std(ddof=1))
    spread = min(sd, (high - low) / 1.349) or sd
    return gaussian_kde(values, bw_method=0.9 * spread / sd * len(values) ** -0.2)


def highest_density_region(values: np.ndarray, level: float = 0.95) -> list[tuple[float, float]]:
    """Return the pieces of the region of highest density, from low to high.

    Every value inside has a higher density than any outside (Hyndman 1996, "Computing and
    graphing highest density regions", The American Statistician 50(2)); the cut is the quantile
    of the estimated density at the draws.

    Parameters
    ----------
    values
        Draws, shape (draws,).
    level
        Posterior probability inside.

    Raises
    ------
    ArgumentError
        For a level outside (0, 1).
    """
    level = check_level(level)
    grid, height = density(values, points=512)
    if len(grid) == 1:
        return [(float(grid[0]), float(grid[0]))]
    cut = np.quantile(np.interp(values, grid, height), 1 - level)
    inside = np.concatenate([[False], height >= cut, [False]])
    edges = np.flatnonzero(np.diff(inside.astype(int)))
    pieces = [(float(grid[a]), float(grid[b - 1])) for a, b in edges.reshape(-1, 2)]
    # Specks that a few draws make are no humps.
    weights = [np.mean((values >= low) & (values <= high)) for low, high in pieces]
    return [p for p, w in zip(pieces, weights, strict=True) if w >= _SMALLEST_PIECE] or pieces
