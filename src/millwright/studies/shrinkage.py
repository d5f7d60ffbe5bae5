"""Slopes that are pulled to 0 unless the data speak for them: the regularised horseshoe."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from scipy.stats import norm

from millwright.errors import ArgumentError
from millwright.language.printing import number_text
from millwright.studies.scales import spread_text
from millwright.wording import setting

if TYPE_CHECKING:
    from millwright.studies.families import FamilyOfOutcomes

__all__ = ["Shrinkage", "check_size", "noise_on_predictor", "usual_size"]

_ORDERED = {"logit": np.pi / np.sqrt(3), "probit": 1.0}


@dataclass(frozen=True, kw_only=True)
class Shrinkage:
    """Which slopes are pulled to 0, and how strongly.

    The regularised horseshoe of Piironen and Vehtari (2017, "Sparsity information and
    regularization in the horseshoe and other shrinkage priors", equations 2.8 and 3.12), with a
    fixed width of the slopes that escape. The local scale is written by the factor of shrinkage
    1 / (1 + local^2), which is beta(1/2, 1/2) where the local scale is half-Cauchy (Carvalho,
    Polson and Scott 2010).

    Attributes
    ----------
    columns
        Columns of the design whose slopes are pulled.
    terms
        How many terms of the formula they come from.
    expected
        How many terms are expected to matter.
    overall
        Median of the prior of the global scale.
    widest
        Sd of a slope that is not pulled, for one sd of its predictor.
    """

    columns: tuple[str, ...]
    terms: int
    expected: float
    overall: float
    widest: float

    @property
    def priors(self) -> dict[str, str]:
        """Usual priors by class."""
        return {
            "global_scale": f"half_cauchy({spread_text(self.overall)})",
            "shrinkage": "beta(alpha=0.5, beta=0.5) per candidate",
            "part": "normal(0, 1) per candidate",
        }

    @property
    def slope(self) -> str:
        """Text of the slopes, for one sd of each predictor."""
        # Multiplied by the root of the factor of shrinkage above and below, so that no local
        # scale is so large that its square overflows.
        wide = spread_text(self.widest)
        inside = f"shrinkage + (1 - shrinkage) * (global_scale / {wide})**2"
        return f"part * global_scale * sqrt((1 - shrinkage) / ({inside}))"

    @property
    def words(self) -> str:
        """The prior in a sentence."""
        return (
            f"Slopes of {self.terms} terms have a regularised horseshoe prior (Piironen and "
            f"Vehtari 2017): about {number_text(self.expected)} are expected to matter, so the "
            f"global scale has the median {spread_text(self.overall)} = expected / (others) * "
            "noise of a row / sqrt(rows); slopes that escape are normal with sd "
            f"{spread_text(self.widest)}, all for a change of one sd."
        )


def usual_size(terms: int) -> float:
    """Return how many terms are expected to matter: a fifth, at least one, at most half."""
    return min(max(1.0, terms / 5), terms / 2)


def check_size(expected: float, terms: int) -> float:
    """Return the expected number.

    Raises
    ------
    ArgumentError
        Unless it is above 0 and below the number of terms.
    """
    number = isinstance(expected, int | float) and not isinstance(expected, bool)
    if not number or not 0 < expected < terms:
        raise ArgumentError(
            f"{setting('expected_size')} is above 0 and below the number of terms that are pulled "
            f"to 0, which is {terms}; not {expected!r}."
        )
    return float(expected)


def noise_on_predictor(
    family: FamilyOfOutcomes, link: str, values: np.ndarray, unit: float
) -> float:
    """Return the noise of one row on the scale of the predictor.

    Sd of the outcome over the slope of its mean, both at the mean of the data (Piironen and
    Vehtari 2017, section 3.5); of ordered labels that of the underlying logistic or normal.

    Parameters
    ----------
    values
        The outcomes; of binomial ones the shares of successes times the root of trials are not
        needed: give shares, and divide by the root of the mean number of trials.
    unit
        Sd of the outcome, where the predictor is on its scale.
    """
    if family.name == "ordered":
        return float(_ORDERED[link])
    if link == "identity" or family.logged:
        return unit
    mean = float(np.mean(values))
    if link == "log":
        variance = mean if family.name == "poisson" else float(np.var(values, ddof=1))
        return float(np.sqrt(variance)) / mean
    inside = min(max(mean, 1e-3), 1 - 1e-3)
    variance = float(np.var(values, ddof=1)) if family.name == "beta" else inside * (1 - inside)
    return float(np.sqrt(variance)) / _steepness(link, inside)


def _steepness(link: str, mean: float) -> float:
    """Return the derivative of the mean by the predictor."""
    if link == "logit":
        return mean * (1 - mean)
    if link == "probit":
        return float(norm.pdf(norm.ppf(mean)))
    return -(1 - mean) * float(np.log1p(-mean))
