"""The posterior of a correlation, by quadrature of the exact density of r.

Given the correlation rho of a bivariate normal distribution, the sample correlation r of n pairs
has, up to what does not rest on rho, the density (Hotelling 1953, "New light on the correlation
coefficient and its transforms", Journal of the Royal Statistical Society B 15, eq. 25)

    (1 - rho^2)^((n - 1) / 2) (1 - rho r)^(3/2 - n) 2F1(1/2, 1/2; n - 1/2; (1 + rho r) / 2).

The same function of rho is the likelihood with means and log standard deviations integrated out
under flat priors (Jeffreys 1961, "Theory of Probability", section 5.7). The integral runs over
z = atanh(rho), where the density is close to normal.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.special import betainc, betaln, hyp2f1

from millwright.draws.intervals import IntervalKind
from millwright.studies.grid_density import GridDensity, interval_of

__all__ = ["RhoPosterior", "RhoPrior", "SampleCorrelation", "sample_correlation"]

_SPREADS = np.array([-60, -20, -9, -6, -4, -2.5, -1, 0, 1, 2.5, 4, 6, 9, 20, 60])
_FARTHEST = 30.0
_PER_PIECE = 201


@dataclass(frozen=True)
class SampleCorrelation:
    """The correlation of n pairs; `below_one` and `above_minus_one` are 1 - r and 1 + r."""

    r: float
    n: int
    below_one: float
    above_minus_one: float


def sample_correlation(x: np.ndarray, y: np.ndarray) -> SampleCorrelation:
    """Return the correlation of two columns, exact also near 1 and -1."""
    a, b = (one - one.mean() for one in (x, y))
    a, b = (one / np.sqrt(np.sum(one**2)) for one in (a, b))
    below, above = 0.5 * float(np.sum((a - b) ** 2)), 0.5 * float(np.sum((a + b) ** 2))
    r = 1 - below if below < above else above - 1
    return SampleCorrelation(float(r), len(x), below, above)


@dataclass(frozen=True)
class RhoPrior:
    """A beta distribution stretched over -1 to 1, possibly cut at `low` and `high`.

    With `width` 1 it is uniform, narrower around 0 with less; alpha = beta = 1 / width.
    """

    width: float = 1.0
    low: float = -1.0
    high: float = 1.0

    @property
    def log_mass(self) -> float:
        """Log of what the uncut distribution has between the ends."""
        if (self.low, self.high) == (-1.0, 1.0):
            return 0.0
        one = 1 / self.width
        ends = betainc(one, one, [(self.low + 1) / 2, (self.high + 1) / 2])
        return float(np.log(ends[1] - ends[0]))

    def log_density(self, z: np.ndarray) -> np.ndarray:
        """Return the log density of rho at z = atanh(rho), inside the ends."""
        a = 1 / self.width
        log_rest = -2 * _log_cosh(z)
        whole = (2 * a - 1) * np.log(2) + betaln(a, a)
        return (a - 1) * log_rest - whole - self.log_mass


def _log_cosh(z: np.ndarray) -> np.ndarray:
    return np.logaddexp(z, -z) - np.log(2)


def log_likelihood(found: SampleCorrelation, z: np.ndarray) -> np.ndarray:
    """Return the log density of r at z = atanh(rho), relative to that at rho = 0."""
    n = found.n
    # 1 - rho r = ((1 - r) e^z + (1 + r) e^-z) / (2 cosh z)
    log_gap = np.logaddexp(
        np.log(found.below_one) + z, np.log(found.above_minus_one) - z
    ) - np.logaddexp(z, -z)
    series = np.log(hyp2f1(0.5, 0.5, n - 0.5, 1 - 0.5 * np.exp(log_gap)))
    none = np.log(hyp2f1(0.5, 0.5, n - 0.5, 0.5))
    return -(n - 1) * _log_cosh(z) - (n - 1.5) * log_gap + series - none


@dataclass(frozen=True)
class RhoPosterior:
    """The posterior of a correlation under a stretched beta prior."""

    found: SampleCorrelation
    prior: RhoPrior

    @cached_property
    def _of_z(self) -> GridDensity:
        """The posterior of z = atanh(rho), up to likelihood and prior at no correlation."""

        def log_density(z: np.ndarray) -> np.ndarray:
            jacobian = -2 * _log_cosh(z)
            return log_likelihood(self.found, z) + self.prior.log_density(z) + jacobian

        return GridDensity(log_density=log_density, edges=self._edges, per_piece=_PER_PIECE)

    @property
    def _edges(self) -> np.ndarray:
        r = np.clip(self.found.r, -1 + 1e-15, 1 - 1e-15)
        middle = float(0.5 * np.log(self.found.above_minus_one / self.found.below_one))
        spread = 1 / np.sqrt(max(self.found.n - 2, 1))
        with np.errstate(divide="ignore"):
            low, high = np.arctanh([self.prior.low, self.prior.high])
        most = abs(float(np.arctanh(r))) + _FARTHEST
        low, high = max(low, -most), min(high, most)
        # Around the data, around no correlation, and wide.
        corners = np.concatenate([middle + spread * _SPREADS, spread * _SPREADS, _SPREADS / 2])
        return np.unique(
            np.concatenate([[low, high], corners[(corners > low) & (corners < high)]])
        )

    @property
    def log_factor(self) -> float:
        """Log Bayes factor of this prior over no correlation."""
        return self._of_z.log_integral

    def quantile(self, shares: np.ndarray) -> np.ndarray:
        """Return quantiles of rho."""
        return np.tanh(self._of_z.quantile(shares))

    def below(self, rho: float) -> float:
        """Return the probability that the correlation is below a value."""
        return self._of_z.below(float(np.arctanh(np.clip(rho, -1 + 1e-16, 1 - 1e-16))))

    def density(self, rho: np.ndarray) -> np.ndarray:
        """Return the posterior density of rho at values between -1 and 1."""
        z = np.arctanh(rho)
        inside = (rho >= self.prior.low) & (rho <= self.prior.high)
        values = log_likelihood(self.found, z) + self.prior.log_density(z) - self.log_factor
        return np.where(inside, np.exp(values), 0.0)

    def interval(self, level: float, kind: IntervalKind) -> tuple[float, float]:
        """Return the ends of a credible interval."""
        return interval_of(self.quantile, level, kind)
