"""Trials whose effects lean on covariates, or that report several estimates each.

With the common effect and the spread given, all else is a linear model with normal unknowns w of
mean 0 and sd 1 (slopes in units of their priors, own effects of trials in units of the spread,
and what estimates of one trial have in common):

    y = effect + A w + noise,    noise ~ normal(0, D)

so that w is integrated out in closed form: with B = I + A' D^-1 A, the covariance of y has the
inverse D^-1 - D^-1 A B^-1 A' D^-1 and the determinant |D| |B| (Rasmussen and Williams 2006,
appendix A.3), and w given the rest is normal with precision B (Gelman et al. 2013, section 14.8).
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from millwright.studies.meta_posterior import Trials, normal_log_density

__all__ = ["LinearTrials"]


@dataclass(frozen=True, kw_only=True)
class LinearTrials(Trials):
    """Estimates with covariates, and with several estimates a trial.

    Attributes
    ----------
    columns
        Standardised covariates, (estimates, slopes).
    slope
        Location and scale of the normal prior of the slopes.
    trial
        Number of each estimate's trial, from 0; None where each estimate is a trial.
    correlation
        Of the errors of estimates of one trial, from 0 to below 1.
    """

    columns: np.ndarray = field(repr=False)
    slope: tuple[float, float]
    trial: np.ndarray | None = field(repr=False)
    correlation: float

    def only(self, rows: np.ndarray) -> LinearTrials:
        """Return some of the estimates."""
        trial = self.trial
        if trial is not None:
            trial = np.unique(trial[rows], return_inverse=True)[1]
        return replace(
            self,
            estimates=self.estimates[rows],
            errors=self.errors[rows],
            columns=self.columns[rows],
            trial=trial,
        )

    def with_columns(self, kept: np.ndarray) -> LinearTrials:
        """Return the same with some of the covariates."""
        return replace(self, columns=self.columns[:, kept])

    @property
    def _trials(self) -> int:
        return 0 if self.trial is None else int(self.trial.max()) + 1

    @cached_property
    def _design(self) -> np.ndarray:
        """A: slopes, what errors share, and own effects for a spread of 1."""
        parts = [self.columns * self.slope[1]]
        if self.trial is not None:
            belongs = np.eye(self._trials)[self.trial]
            if self.correlation:
                parts.append(np.sqrt(self.correlation) * self.errors[:, None] * belongs)
            parts.append(belongs)
        return np.concatenate(parts, axis=1)

    @cached_property
    def _middle(self) -> float:
        return float(np.mean(self.estimates))

    @cached_property
    def _readings(self) -> np.ndarray:
        """Estimates less what the slopes' priors expect, around their mean."""
        return self.estimates - self._middle - self.columns.sum(axis=1) * self.slope[0]

    def _noise(self, spread: np.ndarray) -> np.ndarray:
        """Return variances of the noise, (spreads, estimates)."""
        if self.trial is None:
            return self.errors**2 + np.square(spread)[:, None]
        own = (1 - self.correlation) * self.errors**2
        return np.broadcast_to(own, (len(spread), len(own)))

    def _scales(self, spread: np.ndarray) -> np.ndarray:
        """Return what the columns of A are multiplied by, (spreads, columns)."""
        scales = np.ones((len(spread), self._design.shape[1]))
        if self.trial is not None:
            scales[:, -self._trials :] = spread[:, None]
        return scales

    def _products(self, spread: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return B, and products of A, 1 and the readings with 1 and the readings."""
        whole = np.column_stack([self._design, np.ones(len(self)), self._readings])
        outer = (whole[:, :, None] * whole[:, None, :]).reshape(len(self), -1)
        size, count = whole.shape[1], self._design.shape[1]
        products = ((1 / self._noise(spread)) @ outer).reshape(-1, size, size)
        scales = np.column_stack([self._scales(spread), np.ones((len(spread), 2))])
        products = products * scales[:, :, None] * scales[:, None, :]
        return products[:, :count, :count] + np.eye(count), products[:, :, count:]

    def given(self, spread: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Return what the likelihood is as a function of the effect; see `Trials.given`."""
        inner, products = self._products(np.asarray(spread, dtype=float))
        count = inner.shape[1]
        ours, rest = products[:, :count], products[:, count:]
        left = rest - np.swapaxes(ours, 1, 2) @ np.linalg.solve(inner, ours)
        total = left[:, 0, 0]
        mean = left[:, 0, 1] / total
        apart = left[:, 1, 1] - mean**2 * total
        logs = np.log(2 * np.pi * self._noise(spread)).sum(axis=1) + np.linalg.slogdet(inner)[1]
        constant = -0.5 * (logs + apart - np.log(2 * np.pi / total))
        return mean + self._middle, 1 / total, constant

    def log_likelihood(self, effects: np.ndarray, spreads: np.ndarray) -> np.ndarray:
        """Return the log likelihood of effects and spreads, of the shape they broadcast to."""
        parts = (one.reshape(spreads.shape) for one in self.given(spreads.reshape(-1)))
        mean, variance, constant = parts
        return constant + normal_log_density(effects, mean, variance)

    def unknowns(
        self, effect: np.ndarray, spread: np.ndarray, generator: np.random.Generator
    ) -> dict[str, np.ndarray]:
        """Return draws of what was integrated out, given draws of effect and spread.

        Returns
        -------
        `slope` (draws, slopes); with several estimates a trial `own` effects (draws, trials),
        around the common one, and `shared` errors (draws, trials).
        """
        inner, products = self._products(spread)
        count = inner.shape[1]
        factor = np.linalg.cholesky(inner)
        expected = (
            products[:, :count, 1] - (effect - self._middle)[:, None] * products[:, :count, 0]
        )
        noise = generator.standard_normal(expected.shape)
        half = np.linalg.solve(factor, expected[..., None])
        drawn = np.linalg.solve(np.swapaxes(factor, 1, 2), half + noise[..., None])[..., 0]
        slopes = self.columns.shape[1]
        found = {}
        if slopes:
            found["slope"] = self.slope[0] + self.slope[1] * drawn[:, :slopes]
        if self.trial is not None:
            found["own"] = drawn[:, -self._trials :] * spread[:, None]
            if self.correlation:
                found["shared"] = drawn[:, slopes : slopes + self._trials]
        return found

    def shrunken(
        self, effect: np.ndarray, spread: np.ndarray, generator: np.random.Generator
    ) -> np.ndarray:
        """Return draws of the own effect behind each estimate; see `Trials.shrunken`."""
        found = self.unknowns(effect, spread, generator)
        middle = effect[:, None]
        if "slope" in found:
            middle = middle + found["slope"] @ self.columns.T
        if self.trial is not None:
            return np.asarray(middle + found["own"][:, self.trial])
        return self._pulled(middle, spread, generator)
