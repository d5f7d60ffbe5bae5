"""Fits that follow from a fit: with other priors, or with other weights of the data."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import fields, replace
from typing import Any

import numpy as np

from millwright.errors import Interrupted, ModelError
from millwright.fitting.fit import Fit
from millwright.fitting.in_memory import run_in_memory
from millwright.fitting.many import ManyFits, fit_many, seed_of
from millwright.fitting.plan import FitPlan
from millwright.fitting.record import Origin
from millwright.modelling.binding import Binding, bind
from millwright.modelling.changed_priors import with_priors
from millwright.modelling.left_out import weighed
from millwright.modelling.specification import Specification
from millwright.posterior.posteriors import judged
from millwright.sampling.methods import LaplaceGrid, NoUTurn, method_from
from millwright.sampling.progress import Listener
from millwright.sampling.sampler import FitSettings

__all__ = ["fits_to", "fits_weighed", "fitted_with"]

_CAREFUL = 0.95
_MOST_DRAWS = 1000
"""Of each chain of a fit with other weights: what it is for does not take more."""


def fitted_with(fit: Fit, priors: dict[str, Any], seed: int | None = None) -> Fit:
    """Fit the same model to the same data with other priors, sampled in the same way.

    Raises
    ------
    ArgumentError, LanguageError, ModelError
        If a prior does not fit.
    """
    again = _bound_again(fit, with_priors(fit.draws.binding.specification, priors))
    plan = _plan_of(fit)
    if seed is not None:
        plan = replace(plan, seed=seed)
    found, _ = run_in_memory(plan.job(again), None, lambda event: None)
    if found is None:
        raise ModelError("The fit with other priors was stopped before it had draws.")
    return found


def fits_weighed(
    fit: Fit, weights: Mapping[Any, Mapping[str, np.ndarray]], listener: Listener
) -> ManyFits:
    """Fit the model again with other weights of its outcomes, once for each entry.

    Parameters
    ----------
    weights
        By any name, for each outcome the power of each of its likelihoods; 0 leaves a value out.
        All entries name the same outcomes, so that they share what is compiled.

    Returns
    -------
    The fits; those that are not to be relied on stand among the failures.

    Raises
    ------
    Interrupted
        After Ctrl-C.
    """
    whole = _bound_again(fit, fit.draws.binding.specification)
    bindings: dict[Any, Binding] = {name: weighed(whole, one) for name, one in weights.items()}
    return fits_to(fit, bindings, listener, fit.record.seed)


def fits_to(
    fit: Fit,
    bindings: Mapping[Any, Binding],
    listener: Listener,
    seed: int,
    workers: int | Executor | None = None,
) -> ManyFits:
    """Fit bound models by the method of a fit, with at most 1000 draws a chain.

    Returns
    -------
    The fits; those that are not to be relied on stand among the failures.

    Raises
    ------
    Interrupted
        After Ctrl-C.
    """
    plan = _plan_of(fit)
    draws, warmup = (min(n or _MOST_DRAWS, _MOST_DRAWS) for n in (plan.draws, plan.warmup))
    plan = replace(plan, draws=draws, warmup=warmup, thin=1)
    seeds = {name: seed_of(seed, at) for at, name in enumerate(bindings, start=1)}

    def good(fits: Sequence[Fit]) -> list[bool]:
        return [one.verdict.sound for one in judged(fits)]

    def keep(name: Any, found: Fit) -> None:
        """Nothing is stored."""

    result, complete = fit_many(bindings, plan, seeds, workers, good, keep, listener)
    if complete:
        doubtful = _set_apart(result)
        if doubtful and plan.method is None:
            # Smaller steps, before a fit is given up.
            careful = replace(plan, target_acceptance=max(plan.target_acceptance, _CAREFUL))
            some = {name: bindings[name] for name in doubtful}
            again, complete = fit_many(some, careful, seeds, workers, good, keep, listener)
            doubtful = _set_apart(again)
            result.fits |= again.fits
            result.failures |= again.failures
        result.failures |= doubtful
    if not complete:
        raise Interrupted("The fits were stopped.")
    return result


def _set_apart(found: ManyFits) -> dict[Any, str]:
    """Take out fits that are not to be relied on; return why not, by name."""
    headlines = {name: judged([one])[0].verdict for name, one in found.fits.items()}
    doubtful = {name: one.headline for name, one in headlines.items() if not one.sound}
    for name in doubtful:
        del found.fits[name]
    return doubtful


def _bound_again(fit: Fit, specification: Specification) -> Binding:
    binding = fit.draws.binding
    return bind(
        specification,
        binding.given or binding.tables,
        missing=fit.record.settings["missing"],
        functions=binding.program.foreign,
    )


def _plan_of(fit: Fit) -> FitPlan:
    """Return the plan of a fit, in the coordinates that are usual.

    Of draws that no sampler made, or a grid that cannot take every change of priors, it is the
    usual one, with as many draws.

    Raises
    ------
    ModelError
        If the draws are not those of a posterior.
    """
    record = fit.record
    if not record.origin.of_posterior:
        raise ModelError(
            "Fitting the same model again takes draws that were made here from the model, and the "
            f"origin of these is: {record.origin.value}. Fit the model."
        )
    if record.origin is Origin.EXACT or record.method.get("method") == LaplaceGrid.name:
        return FitPlan(
            chains=int(record.settings["chains"]),
            draws=int(record.settings["draws"]),
            seed=record.seed,
        )
    sizes = {f.name: record.settings[f.name] for f in fields(FitSettings)}
    method = method_from(record.method)
    own = (
        {f.name: getattr(method, f.name) for f in fields(NoUTurn)}
        if isinstance(method, NoUTurn)
        else {"method": method}
    )
    return FitPlan(
        chains=int(record.settings["chains"]),
        seed=record.seed,
        trial=bool(record.settings["trial"]),
        **sizes,
        **own,
    )
