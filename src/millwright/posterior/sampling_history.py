"""How the draws of a fit were sampled: what an expert of samplers asks."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from millwright.fitting.fit import Fit

if TYPE_CHECKING:
    import pandas as pd
    import xarray as xr

__all__ = ["SamplingHistory"]


@dataclass(frozen=True, eq=False)
class SamplingHistory:
    """What the sampler did: its statistics, warm-up, adaptation and divergences."""

    _fit: Fit = field(repr=False)

    def statistics(self, warmup: bool = False) -> xr.Dataset:
        """Return the sampler's numbers of each draw.

        Returns
        -------
        Dimensions `chain` and `iteration`, both from 1; `log_density`, `acceptance` and
        `evaluations` of the density. Of the no-U-turn sampler `leapfrog_steps` in the place of
        the last, `doublings` of the trajectory, whether it `diverged`, `energy` and `step_size`.
        With `warmup`, those of the warm-up.

        Raises
        ------
        ArgumentError
            If the warm-up of these draws is not known.
        """
        from millwright.posterior.sampling_tables import sampling_statistics

        return sampling_statistics(
            self._fit.statistics, self._fit.record, self._fit.warmup_record, warmup
        )

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

        return warmup_needed(self._fit.statistics, self._fit.warmup_record)

    def adaptation(self) -> xr.Dataset:
        """Return what each chain settled on in its warm-up: step size, metric, scales.

        Scales are standard deviations of the sampler's unconstrained coordinates.

        Raises
        ------
        ArgumentError
            If nothing is known of it.
        """
        from millwright.posterior.sampling_tables import adaptation

        return adaptation(self._fit.draws, self._fit.record, self._fit.warmup_record)

    def divergences(self) -> pd.DataFrame:
        """Return where trajectories diverged.

        Returns
        -------
        One row a divergence: chain, iteration (from 1), and the unknowns at the last point before
        the sampler lost its way.
        """
        from millwright.posterior.sampling_tables import divergences

        return divergences(self._fit.draws, self._fit.warmup_record)
