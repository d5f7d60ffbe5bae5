"""The mixture of Student-t distributions at the peaks of a target, towards which a ladder tempers.

Powers of the likelihood never leave a mode of the prior, and powers of the whole density lose
narrow modes. On the path  mixture^(1 - b) x density^b  every temperature holds all modes with
about the masses that they have, and the highest can be drawn from independently.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from millwright.distributions.mathematics import Array, Mathematics
from millwright.sampling.peaks import DF, Peaks

__all__ = ["PeakMixture", "Towards", "draw_from", "drawn_with", "log_mixture", "mixture_at"]


class PeakMixture(NamedTuple):
    """Student-t distributions with 5 degrees of freedom, as arguments of compiled functions.

    Attributes
    ----------
    shares, logs
        Weights, and their logarithms with all that is constant, shape (peaks,).
    centres, factors, inverses
        Places, Cholesky factors of the scale matrices and their inverses.
    """

    shares: Any
    logs: Any
    centres: Any
    factors: Any
    inverses: Any


def mixture_at(peaks: Peaks) -> PeakMixture | None:
    """Return the mixture at several peaks; None for one peak, or without their curvature."""
    if not peaks.several or not len(peaks.factors):
        return None
    count, dimension = peaks.positions.shape
    masses = peaks.masses
    if np.isnan(masses).any():
        masses = np.full(count, 1.0 / count)
    # A mass that is underestimated must not starve its mode.
    shares = 0.8 * masses + 0.2 / count
    inverses = np.linalg.inv(peaks.factors)
    constant = (
        math.lgamma((DF + dimension) / 2)
        - math.lgamma(DF / 2)
        - 0.5 * dimension * math.log(DF * math.pi)
    )
    scale = np.log(np.abs(np.diagonal(peaks.factors, axis1=1, axis2=2))).sum(axis=1)
    logs = np.log(shares) + constant - scale
    return PeakMixture(shares, logs, peaks.positions, peaks.factors, inverses)


def log_mixture(m: Mathematics, position: Array, mixture: PeakMixture) -> Array:
    """Return the log density at positions of shape (..., dimension)."""
    dimension = position.shape[-1]
    apart = position[..., None, :] - mixture.centres
    z = m.einsum("kij,...kj->...ki", mixture.inverses, apart)
    each = mixture.logs - 0.5 * (DF + dimension) * m.log1p(m.sum(z * z, axis=-1) / DF)
    top = m.max(each, axis=-1, keepdims=True)
    return top[..., 0] + m.log(m.sum(m.exp(each - top), axis=-1))


def draw_from(mixture: PeakMixture, generator: np.random.Generator, count: int) -> np.ndarray:
    """Return independent draws, shape (count, dimension)."""
    which = generator.random(count)
    normal = generator.standard_normal((count, mixture.centres.shape[1]))
    return drawn_with(mixture, which, normal, generator.chisquare(DF, count))


def drawn_with(
    mixture: PeakMixture, which: np.ndarray, normal: np.ndarray, chi_square: np.ndarray
) -> np.ndarray:
    """Return the draws that random numbers make.

    Parameters
    ----------
    which, normal, chi_square
        Uniform numbers, shape (...), which choose a peak; standard normal ones, (..., dimension);
        and chi-square ones with 5 degrees of freedom, (...).
    """
    summed = np.cumsum(mixture.shares)
    peak = np.searchsorted(summed / summed[-1], which, side="right")
    spread = np.einsum("...ij,...j->...i", mixture.factors[peak], normal)
    shrink = np.sqrt(chi_square / DF)[..., None]
    return np.asarray(mixture.centres[peak] + spread / shrink)


@dataclass(frozen=True)
class Towards:
    """Log density of the mixture, and how far the target's lies above it; compares by content.

    Where a ladder takes them for log prior and log likelihood, its densities are
    mixture^(1 - b) x density^b.
    """

    split_density: Callable[[Any, Any], tuple[Any, Any]]

    def __call__(self, position: Array, arguments: Any) -> tuple[Array, Array]:
        """Return both (scalars) at a position; `arguments` are the target's and the mixture."""
        import jax.numpy as jnp

        own, mixture = arguments
        prior, likelihood = self.split_density(position, own)
        base = log_mixture(jnp, position, mixture)
        return base, prior + likelihood - base
