"""The coordinates in which group effects are sampled, and what they did to each group."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from millwright.cores import one_thread
from millwright.distributions import on_numpy
from millwright.distributions.gaussian import covariance_of
from millwright.distributions.processes import ChainProcess, GaussianProcess
from millwright.draws.labelled_draws import Draws, thinned
from millwright.fitting.target import target_in_shape
from millwright.fitting.walk_forms import settled_walks
from millwright.modelling.arguments import family_of
from millwright.modelling.binding import Binding
from millwright.modelling.hierarchy import no_information
from millwright.modelling.labelled import DRAW, spread_over
from millwright.modelling.parameterisations import chosen_forms, informed_by_constants
from millwright.modelling.same_shape import padded, without_label_names
from millwright.modelling.series_readings import constants_for
from millwright.modelling.shaping import spread_arguments
from millwright.modelling.specification import Part
from millwright.sampling.compiling import compiled
from millwright.sampling.mode import climb

__all__ = ["group_record", "informed", "prepared", "uninformed", "wants_information"]


@one_thread
def prepared(
    binding: Binding,
    parameterisation: str | Mapping[str, str],
    seed: int,
    places: Mapping[str, int] | None = None,
) -> Binding:
    """Choose the coordinates of group effects.

    For informed ones, the constants of the map come from the curvature of the likelihood at the
    highest point of the posterior in non-centred coordinates. `places` says to how many places
    rows are filled up, if they are.

    Raises
    ------
    ArgumentError
        For an unknown form or name.
    """
    blank = uninformed(binding, parameterisation)
    blank = settled_walks(blank, parameterisation, seed, places or {})
    if not wants_information(blank):
        return blank
    pilot = climb(target_in_shape(blank, places or {}), seed, starts=2, most=300).position
    return informed(blank, pilot, padded(blank, places) if places else None)


def uninformed(binding: Binding, parameterisation: str | Mapping[str, str]) -> Binding:
    """Return the binding in its coordinates, where those to be informed are non-centred yet.

    Raises
    ------
    ArgumentError
        For an unknown form or name.
    """
    forms = chosen_forms(binding.program, parameterisation)
    if not forms:
        return binding
    program = replace(binding.program, forms=forms)
    arguments = {**binding.arguments, **no_information(program)}
    return replace(binding, program=program, arguments=arguments)


def wants_information(binding: Binding) -> bool:
    """Whether the data can inform the coordinates: it takes a gradient."""
    program = binding.program
    return not program.black_boxes and bool(informed_by_constants(program))


def informed(blank: Binding, pilot: np.ndarray, like: Binding | None = None) -> Binding:
    """Return the binding with coordinates informed by the likelihood at a pilot's position.

    `like` has the same density, with rows filled up to a common number.
    """
    # Written in JAX, which takes a second to load: results are read without it.
    from millwright.modelling.information import GroupLikelihood, information_about

    seen = blank if like is None else like
    program = without_label_names(seen.program)
    likelihood = compiled(_group_likelihood, GroupLikelihood(program), (pilot, seen.arguments))
    found = information_about(likelihood(pilot, seen.arguments))
    return replace(blank, arguments={**blank.arguments, **found})


def _group_likelihood(likelihood: Any, position: Any, arguments: Any) -> Any:
    """Return what the likelihood says of each group; to be compiled."""
    return likelihood(position, arguments)


def group_record(draws: Draws) -> dict[str, Any]:
    """Say for each group prior how it was sampled, and how much the data say of each group.

    The share is I tau^2 / (1 + I tau^2) at the posterior median of tau, for vectors the
    eigenvalues of the matrix in its place: near 0 a group rests on the others, near 1 on its
    own data.
    """
    binding = draws.binding
    if not binding.program.forms:
        return {}
    result: dict[str, Any] = {}
    for name, form in binding.program.forms:
        result[name] = {"form": form}
        if form == "informed":
            share = _share_from_own_data(draws, binding.program.by_name[name])
            result[name] |= {"share_from_own_data": [float(share.min()), float(share.max())]}
    return result


def _share_from_own_data(draws: Draws, part: Part) -> np.ndarray:
    family = family_of(part.family, part.arguments)
    number = part.event == "number" or isinstance(family, ChainProcess)
    # Of vectors the shares of a few draws, averaged: a matrix of medians need not be a covariance.
    evaluation = draws.evaluation(keep=thinned(draws, 500 if number else 20))
    constants = constants_for(evaluation, part)
    assert constants is not None
    information, named = constants[0], evaluation.parameters(part)
    axes = (DRAW, *part.axes)
    if number:
        # A scale need not be unknown: it may be a constant, or have one value for each label.
        scale = np.asarray(spread_over(named["scale"], axes), dtype=float)
        strength = information * scale**2
        if np.ndim(strength) > len(part.axes):
            strength = np.median(strength, axis=0)
        return np.asarray(strength / (1 + strength))
    values = spread_arguments(on_numpy, part, named, axes, draws.binding.program)
    if isinstance(family, GaussianProcess):
        root = on_numpy.cholesky(np.asarray(family.covariance(on_numpy, values)))
        known = information[..., None] * root
    else:
        root = on_numpy.cholesky(np.asarray(covariance_of(values)))
        known = information @ root
    # Rounding leaves some a little below 0.
    strength = np.linalg.eigvalsh(np.swapaxes(root, -1, -2) @ known).clip(0.0)
    return np.asarray(np.mean(strength / (1 + strength), axis=0))
