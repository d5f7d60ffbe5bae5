"""Predictive densities of values that were left out, from fits without them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from millwright.accuracy.bridged import bridged
from millwright.accuracy.pointwise import log_likelihood_of
from millwright.draws.labelled_draws import Draws
from millwright.fitting.fit import Fit
from millwright.modelling.binding import Binding
from millwright.modelling.left_out import likelihood_axes
from millwright.posterior.refits import fits_weighed
from millwright.sampling.progress import Listener

__all__ = ["LARGEST_ERROR", "Places", "bridged_each", "weights_without"]

Places = Mapping[str, Sequence[int]]
"""Outcomes with the places, from 0, of the values that are left out together."""

LARGEST_ERROR = 0.25
"""Of a log predictive density; with a larger one the two fits hardly overlap."""
_ALONE = (0.0,)
_STEPS = (0.0, 0.02, 0.1, 0.35)
_UNKNOWN = (np.nan, np.nan)


def bridged_each(
    fit: Fit, units: Mapping[Any, Places], listener: Listener
) -> tuple[dict[Any, tuple[float, float]], dict[Any, str]]:
    """Return the log predictive density of each unit given all else, with its standard error.

    Where a unit lies so far out that the fits with and without it hardly overlap, fits with a
    part of its weight bridge the gap. Units without a fit to be relied on stand in the second
    mapping, with the reason.
    """
    outcomes = list(dict.fromkeys(name for places in units.values() for name in places))
    found: dict[Any, tuple[float, float]] = {}
    failures: dict[Any, str] = {}
    for powers in (_ALONE, _STEPS):
        left = {
            unit: places
            for unit, places in units.items()
            if not found.get(unit, _UNKNOWN)[1] <= LARGEST_ERROR
        }
        if left:
            found |= _through(fit, outcomes, left, powers, listener, failures)
    return found, {unit: why for unit, why in failures.items() if unit not in found}


def weights_without(
    binding: Binding, outcomes: Sequence[str], places: Places, power: float = 0.0
) -> dict[str, np.ndarray]:
    """Return weights of these outcomes: a power for the values at these places, else 1."""
    result = {}
    for part in binding.program.outcomes:
        if part.name in outcomes:
            shape = binding.program.shape(likelihood_axes(binding, part))
            result[part.name] = np.ones(int(np.prod(shape)))
            result[part.name][list(places.get(part.name, ()))] = power
    return result


def _through(
    fit: Fit,
    outcomes: Sequence[str],
    units: Mapping[Any, Places],
    powers: Sequence[float],
    listener: Listener,
    failures: dict[Any, str],
) -> dict[Any, tuple[float, float]]:
    """Return log predictive densities with errors, through fits with these powers of each unit."""
    binding = fit.draws.binding
    weights = {
        (unit, power): weights_without(binding, outcomes, places, power)
        for unit, places in units.items()
        for power in powers
    }
    many = fits_weighed(fit, weights, listener)
    failures.update({unit: why for (unit, _), why in many.failures.items()})
    fits = many.fits
    result = {}
    for unit, places in units.items():
        if all((unit, power) in fits for power in powers):
            steps = [*(fits[unit, power].draws for power in powers), fit.draws]
            result[unit] = _bridged_steps(places, [*powers, 1.0], steps)
    return result


def _bridged_steps(
    places: Places, powers: Sequence[float], steps: Sequence[Draws]
) -> tuple[float, float]:
    log_lik = [_together(draws, places) for draws in steps]
    found = [
        bridged((upper - lower) * more, (upper - lower) * less)
        for lower, upper, less, more in zip(powers, powers[1:], log_lik, log_lik[1:], strict=False)
    ]
    values, errors = zip(*found, strict=True)
    return float(np.sum(values)), float(np.sqrt(np.sum(np.square(errors))))


def _together(draws: Draws, places: Places) -> np.ndarray:
    """Return the log likelihood of all values at these places, shape (chains, draws)."""
    parts = [log_likelihood_of(draws, name, some) for name, some in places.items() if len(some)]
    return np.concatenate(parts, axis=1).sum(axis=1).reshape(draws.shape)
