"""How well momentum refreshes explore the energy."""

from __future__ import annotations

import numpy as np

__all__ = ["energy_fraction"]


def energy_fraction(energy: np.ndarray) -> np.ndarray:
    """Estimated Bayesian fraction of missing information of each chain (Betancourt 2016, eq. 8).

    Mean squared change of the energy between draws over its variance; values near 1 are good,
    small ones mean that the sampler moves slowly between energies.

    Parameters
    ----------
    energy
        Energies, shape (chains, draws).

    Returns
    -------
    One value a chain; NaN for fewer than two draws or constant energies.
    """
    if energy.shape[1] < 2:
        return np.full(energy.shape[0], np.nan)
    # Energies of chains that ran off have squares beyond what numbers can say; the ratio is the
    # same in any unit, and that of a power of two loses no digit.
    _, exponents = np.frexp(np.abs(energy).max(axis=1, keepdims=True))
    energy = np.ldexp(energy, -exponents)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.mean(np.diff(energy, axis=1) ** 2, axis=1) / energy.var(axis=1)
