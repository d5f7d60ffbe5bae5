"""What shows whether a posterior can be relied on: convergence, and how it was sampled."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np

from millwright.diagnostics.verdict import Verdict
from millwright.draws.expressions import chosen_numbers
from millwright.draws.prior import prior_draws
from millwright.errors import ArgumentError
from millwright.modelling.foreign import lent
from millwright.modelling.gathering import gathered
from millwright.modelling.words import describe
from millwright.posterior.answers import Answers

if TYPE_CHECKING:
    import pandas as pd
    import xarray as xr

__all__ = ["Checked"]


class Checked(Answers):
    """A posterior as far as its convergence and its sampling go."""

    def convergence(self) -> Verdict:
        """Return the verdict: findings with advice, and the numbers behind it."""
        return self.verdict

    def describe(self) -> str:
        """Return the model in words, every prior in full, with the sizes of its label sets."""
        binding = self.draws.binding
        sizes = {name: len(labels) for name, labels in binding.labels.items()}
        with lent(binding.program.foreign):
            notes = gathered(binding).notes
            return describe(binding.specification, sizes, binding.taken.values(), notes)

    def convergence_table(self, names: str | Sequence[str] | None = None) -> pd.DataFrame:
        """Return all convergence numbers, one row a quantity.

        Returns
        -------
        R-hat; ESS of bulk, tail, 5 % and 95 % quantile; Monte Carlo standard errors of mean, sd
        and 2.5 % and 97.5 % quantiles; autocorrelation at lag 1; integrated autocorrelation time
        (how many draws are worth one independent one; less is better); and the largest
        difference, over chains, between the mean of the first tenth and that of the last half,
        in standard errors (Geweke 1992; beyond 3 a chain had not settled).
        """
        from millwright.posterior.sampling_tables import convergence_table

        return convergence_table(chosen_numbers(self.draws, names))

    def draws_needed(
        self, quantity: str, within: float, quantile: float | None = None
    ) -> pd.DataFrame:
        """Say how many draws a chain make a Monte Carlo standard error as small as `within`.

        Parameters
        ----------
        quantity
            A quantity or an expression.
        within
            The standard error that is wanted, in the quantity's unit.
        quantile
            Of which quantile, such as 0.025 for the lower end of a 95 % interval; by default of
            the mean.

        Returns
        -------
        One row a number: standard error now, draws a chain now, needed, and still to come
        (`posterior.extend(...)`).

        Raises
        ------
        ArgumentError
            For a `within` that is not above zero, or a quantile outside (0, 1).
        """
        from millwright.posterior.sampling_tables import draws_needed_table

        return draws_needed_table(chosen_numbers(self.draws, quantity), within, quantile)

    def warmup_needed(self) -> pd.DataFrame:
        """Say how much of its warm-up each chain needed, by its log density.

        Returns
        -------
        One row a chain: transitions of the warm-up, and those after which the mean of ten
        successive log densities stayed where that of the kept draws is. The rest of the warm-up
        went into step sizes and the metric.

        Raises
        ------
        ArgumentError
            If the warm-up of these draws is not known.
        """
        from millwright.posterior.sampling_tables import warmup_needed

        return warmup_needed(self.statistics, self.trail)

    def sampling_statistics(self, warmup: bool = False) -> xr.Dataset:
        """Return the sampler's numbers of each draw.

        Returns
        -------
        Dimensions `chain` and `draw`; log density, acceptance, leapfrog steps (or evaluations),
        depth of the trajectory, whether it diverged, energy, and step size. With `warmup`, those
        of the warm-up.

        Raises
        ------
        ArgumentError
            If the warm-up of these draws is not known.
        """
        from millwright.posterior.sampling_tables import sampling_statistics

        return sampling_statistics(self.statistics, self.trail, warmup)

    def adaptation(self) -> xr.Dataset:
        """Return what each chain settled on in its warm-up: step size, metric, scales.

        Scales are standard deviations of the sampler's unconstrained coordinates.

        Raises
        ------
        ArgumentError
            If nothing is known of it.
        """
        from millwright.posterior.sampling_tables import adaptation

        return adaptation(self.draws, self.record, self.trail)

    def divergences(self) -> pd.DataFrame:
        """Return where trajectories diverged.

        Returns
        -------
        One row a divergence: chain, draw (from 1), and the unknowns at the last point before
        the sampler lost its way.
        """
        from millwright.posterior.sampling_tables import divergences

        return divergences(self.draws, self.trail)

    def prior(
        self, names: Sequence[str] | None = None, draws: int = 4000
    ) -> Mapping[str, np.ndarray]:
        """Return prior draws of each single number, shape (draws,), for comparison.

        Raises
        ------
        ArgumentError
            For fewer than 2 draws.
        ModelError
            If a prior is improper.
        """
        if isinstance(draws, bool) or not isinstance(draws, int) or draws < 2:
            raise ArgumentError(f"`draws` must be a whole number from 2, not {draws!r}.")
        generator = np.random.default_rng([self.record.seed, 4])
        found = prior_draws(self.draws.binding, draws, generator)
        return {name: v[0] for name, v in chosen_numbers(found, names).items()}
