"""Independent draws of a bivariate normal's correlation, spreads and centres, given the data.

With flat priors on centres and log spreads, and u, v = sqrt(sum of squares) / spread written as
u, v = q exp(+-t / 2): t given rho has a density proportional to (cosh t - rho r)^-(n - 1), and q^2
given both a gamma distribution with shape n - 1 and rate (cosh t - rho r) / (1 - rho^2).
"""

from __future__ import annotations

import numpy as np

from millwright.studies.rho import RhoPosterior

__all__ = ["joint_draws"]

_PLACES = np.sinh(np.linspace(-6, 6, 801)) / 6
_AT_ONCE = 1000


def joint_draws(
    posterior: RhoPosterior, rows: np.ndarray, generator: np.random.Generator, draws: int
) -> dict[str, np.ndarray]:
    """Return draws of `share` = (rho + 1) / 2, `centre` and `log_spread`.

    Parameters
    ----------
    rows
        The pairs, shape (n, 2).

    Returns
    -------
    Shapes (draws,), (draws, 2) and (draws, 2).
    """
    n = len(rows)
    rho = posterior.quantile(generator.uniform(size=draws))
    rest = np.maximum(1 - rho**2, 1e-15)
    gap = 1 - rho * posterior.found.r
    t = np.concatenate(
        [_tilts(gap[at : at + _AT_ONCE], n - 1, generator) for at in range(0, draws, _AT_ONCE)]
    )
    # cosh t - 1 without cancellation near 0.
    rate = (2 * np.sinh(t / 2) ** 2 + gap) / rest
    q = np.sqrt(generator.gamma(n - 1, 1 / rate))
    squares = np.sqrt(np.sum((rows - rows.mean(axis=0)) ** 2, axis=0))
    spread = squares / np.stack([q * np.exp(t / 2), q * np.exp(-t / 2)], axis=1)
    noise = generator.standard_normal((draws, 2))
    second = rho * noise[:, 0] + np.sqrt(rest) * noise[:, 1]
    shifts = np.stack([noise[:, 0], second], axis=1) * spread / np.sqrt(n)
    return {
        "share": (1 + rho) / 2,
        "centre": rows.mean(axis=0) + shifts,
        "log_spread": np.log(spread),
    }


def _tilts(gap: np.ndarray, power: int, generator: np.random.Generator) -> np.ndarray:
    """Draw t from densities proportional to (cosh t - 1 + gap)^-power, by their inverse."""
    width = np.sqrt(2 * gap / power) + 1 / power
    t = np.arcsinh(_PLACES * width[:, None])
    log_density = -power * np.log(2 * np.sinh(t / 2) ** 2 + gap[:, None])
    density = np.exp(log_density - log_density.max(axis=1, keepdims=True))
    parts = 0.5 * (density[:, 1:] + density[:, :-1]) * np.diff(t, axis=1)
    cumulated = np.concatenate([np.zeros((len(gap), 1)), np.cumsum(parts, axis=1)], axis=1)
    wanted = generator.uniform(size=len(gap)) * cumulated[:, -1]
    at = np.sum(cumulated[:, 1:-1] < wanted[:, None], axis=1)
    row = np.arange(len(gap))
    inside = (wanted - cumulated[row, at]) / np.maximum(parts[row, at], 1e-300)
    return t[row, at] + inside * (t[row, at + 1] - t[row, at])
