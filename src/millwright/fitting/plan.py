"""What a fit was asked to do, and the job that this makes of a bound model."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, replace
from typing import Any, cast

import numpy as np

from millwright.checks import check_whole
from millwright.errors import ArgumentError
from millwright.fitting.coordinates import prepared
from millwright.fitting.job import Job
from millwright.fitting.latent_models import in_standard_steps
from millwright.fitting.method import chosen_method
from millwright.fitting.starting import StartValues, checked_start
from millwright.modelling.binding import Binding
from millwright.sampling.ensemble import walkers_for
from millwright.sampling.methods import Ensemble, LaplaceGrid, Method, NoUTurn, Rejection
from millwright.sampling.sampler import FitSettings
from millwright.sampling.warmup import Metric

__all__ = ["FitPlan"]

_TRIAL = FitSettings(draws=200, warmup=300)
_CHAINS = 4
_DRAWS_OF_WALKERS = 20_000
_FEWEST_DRAWS_OF_A_WALKER = 400
"""With fewer, walkers that agree could not be told from walkers that do not."""


@dataclass(frozen=True, kw_only=True)
class FitPlan:
    """The settings of a fit, as `Model.fit` describes them; the same plan fits many data sets.

    Raises
    ------
    ArgumentError
        For a setting that makes no sense.
    """

    chains: int | None = None
    draws: int | None = None
    warmup: int | None = None
    thin: int = 1
    trial: bool = False
    seed: int = 0
    target_acceptance: float = 0.8
    max_depth: int = 10
    metric: str = "automatic"
    parameterisation: str | Mapping[str, str] = "informed"
    missing: str = "refuse"
    method: str | Method | None = None
    start: StartValues | None = None

    def __post_init__(self) -> None:
        for name, least in (("chains", 1), ("draws", 1), ("warmup", 0), ("thin", 1), ("seed", 0)):
            value = getattr(self, name)
            if value is not None:
                check_whole(name, value, least)
        if self.missing not in ("refuse", "drop", "predict"):
            raise ArgumentError(
                f"`missing` must be 'refuse', 'drop' or 'predict', not {self.missing!r}."
            )
        self.gradient_method()

    def gradient_method(self) -> NoUTurn:
        """Return the gradient sampler with the settings of this plan."""
        return NoUTurn(self.target_acceptance, self.max_depth, cast("Metric", self.metric))

    def job(self, binding: Binding, places: Mapping[str, int] | None = None) -> Job:
        """Return the job of fitting a model to the data that it is bound to.

        `places` says to how many places rows are filled up, if they are.

        Raises
        ------
        ArgumentError
            For settings that do not go with the model, or starting values outside the support.
        """
        method = chosen_method(self.method, binding, self.gradient_method())
        if isinstance(method, LaplaceGrid):
            known = in_standard_steps(binding, self.parameterisation)
        else:
            known = prepared(binding, self.parameterisation, self.seed, places)
        return replace(self.job_of(known, method), places=places or {})

    def job_of(self, binding: Binding, method: Method) -> Job:
        """Return the job of sampling by a method, in coordinates that are chosen already."""
        chains = self._chains_of(method, binding.dimension)
        start = None
        if self.start is not None:
            start = checked_start(binding, self.start, self.seed, method, chains)
        return Job(
            binding=binding,
            settings=self._sizes(method, chains),
            method=method,
            chains=chains,
            seed=self.seed,
            trial=self.trial,
            start=start,
        )

    def settings_for(self, binding: Binding) -> dict[str, Any]:
        """Return how much is sampled, as a record says it."""
        method = chosen_method(self.method, binding, self.gradient_method())
        chains = self._chains_of(method, binding.dimension)
        sizes = asdict(self._sizes(method, chains))
        return {"chains": chains, **sizes, "trial": self.trial, "missing": self.missing}

    def _chains_of(self, method: Method, dimension: int) -> int:
        """Return the number of chains: for an ensemble, of its walkers."""
        if self.chains is not None:
            return self.chains
        return walkers_for(dimension) if isinstance(method, Ensemble) else _CHAINS

    def _sizes(self, method: Method, chains: int) -> FitSettings:
        """Return how much to sample, with what suits the method where nothing is asked for."""
        usual = _TRIAL if self.trial else FitSettings()
        draws, warmup, thin = self.draws, self.warmup, self.thin
        if isinstance(method, Rejection | LaplaceGrid):
            # Independent draws need neither, nor do those of independent candidates.
            warmup, thin = 0, 1
        if draws is None:
            draws = usual.draws
            if isinstance(method, Ensemble) and not self.trial:
                each = _DRAWS_OF_WALKERS // chains // 50 * 50
                draws = int(np.clip(each, _FEWEST_DRAWS_OF_A_WALKER, draws))
        return FitSettings(draws, usual.warmup if warmup is None else warmup, thin)
