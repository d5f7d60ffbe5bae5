"""Latent functions by a grid with Laplace's approximation, or by a sampler where it is poor."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any

from millwright.diagnostics.finding import HIGHEST_GOOD_K
from millwright.errors import SamplingError
from millwright.fitting.latent_models import why_not
from millwright.models.model import Model
from millwright.posterior.posterior import Posterior
from millwright.sampling.methods import LaplaceGrid
from millwright.studies.study import Fitting

__all__ = ["asks_for_a_sampler", "by_grid", "takes_grid"]

_OF_SAMPLERS = (
    "method",
    "metric",
    "max_depth",
    "target_acceptance",
    "parameterisation",
    "start",
    "thin",
    "warmup",
)
_LEAST_SHARE = 0.1
"""Of the draws, that the smallest effective number must reach."""


def takes_grid(model: Model, data: Any) -> bool:
    """Whether a grid can take a model."""
    return not why_not(model.bind(data))


def asks_for_a_sampler(settings: Mapping[str, Any]) -> bool:
    """Whether settings of a fit speak of how it is sampled."""
    return any(settings.get(name) is not None for name in _OF_SAMPLERS)


def by_grid(fit: Callable[[Fitting], Posterior], how: Fitting, model: Model) -> Posterior:
    """Fit by a grid, or by the usual sampler where chains of its candidates hardly move.

    A run that is there goes on by the method that it began with.

    Parameters
    ----------
    fit
        Fits the model as it is told.
    how
        How the model is to be fitted; its settings name no method.
    """
    wanted = replace(how, settings={**how.settings, "method": LaplaceGrid.name})
    if how.save is not None and (how.save / "run.json").is_file():
        # What reads folders takes long to load.
        from millwright.fitting.in_folder import open_fit

        begun = open_fit(how.save, model).job
        by_it = begun is not None and isinstance(begun.method, LaplaceGrid)
        return fit(wanted if by_it else how)
    try:
        found = fit(replace(wanted, save=None))
    except SamplingError:
        return fit(how)
    if not _moves(found):
        return fit(how)
    if how.save is not None:
        found.save(how.save)
    return found


def _moves(found: Posterior) -> bool:
    """Whether candidates are taken often enough everywhere."""
    numbers = found.convergence_table()
    chains, draws = found.draws.shape
    least = numbers[["effective draws, middle", "effective draws, tails"]].min().min()
    good = found.record.chains[0]["pareto_k"] < HIGHEST_GOOD_K
    return bool(good and least >= _LEAST_SHARE * chains * draws)
