"""Latent functions and states behind outcomes, from the posterior and from the prior."""

from __future__ import annotations

import numpy as np

from millwright.checks import check_text
from millwright.cores import one_thread
from millwright.distributions import on_numpy
from millwright.distributions.processes import GaussianProcess
from millwright.distributions.state_space import StateSpace
from millwright.draws.conditioning import MOST, condition_on_data, joint_arguments, joint_outcomes
from millwright.draws.labelled_draws import Draws, Keep, in_all_chains, kept_iterations
from millwright.errors import ArgumentError, nearest
from millwright.modelling.arguments import family_of
from millwright.modelling.binding import Binding
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import DRAW
from millwright.modelling.shaping import spread_arguments
from millwright.modelling.specification import Part
from millwright.modelling.tables import Tables
from millwright.sampling.streams import Stream, generator_of

__all__ = ["functions_of_prior", "latent", "replicate_around"]


@one_thread
def functions_of_prior(
    along: Binding, part: Part, evaluation: Evaluation, generator: np.random.Generator, draws: int
) -> tuple[np.ndarray, np.ndarray]:
    """Draw a Gaussian-process outcome from its prior: without noise and with it, (draws, rows)."""
    family = family_of(part.family, part.arguments)
    assert isinstance(family, GaussianProcess)
    axes = (DRAW, *dict(along.program.outcome_axes)[part.name])
    named = spread_arguments(on_numpy, part, evaluation.parameters(part), axes, along.program)
    p = {name: np.asarray(value, dtype=float) for name, value in named.items()}
    size = (draws, *along.program.shape(axes[1:]))
    noise = p.pop("noise", np.zeros(1))
    functions = np.asarray(family.draw(generator, size, p), dtype=float)
    return functions, functions + noise * generator.standard_normal(size)


@one_thread
def replicate_around(
    draws: Draws, part: Part, keep: Keep, generator: np.random.Generator
) -> np.ndarray | None:
    """Draw a joint outcome again around the function or states found, shape (draws, rows).

    None for a process without anything latent: it is drawn as a whole.
    """
    family = family_of(part.family, part.arguments)
    if isinstance(family, GaussianProcess):
        if "noise" not in dict(part.arguments):
            return None
        return condition_on_data(draws, part, draws.binding.tables, keep, generator).outcome
    if not isinstance(family, StateSpace):
        return None
    p = joint_arguments(draws, draws.binding, part, keep)
    seen = np.asarray(draws.binding.arguments["observed", part.name])
    states = family.draw_states(generator, seen, p, draws.count(keep))
    readings = np.sum(states * p["loading"], axis=-1) + p.get("location", 0.0)
    return np.asarray(readings + p["noise"] * generator.standard_normal(readings.shape))


@one_thread
def latent(
    draws: Draws, name: str, data: Tables | None, seed: int
) -> tuple[np.ndarray, tuple[str, ...]]:
    """Draw the latent function behind a joint outcome, at the fitted rows or at new ones.

    Returns
    -------
    Draws (draws, rows), or (draws, rows, states) for a state-space model, and their axes; the
    draws are those of `kept_iterations(draws, MOST)`, chain after chain.

    Raises
    ------
    ArgumentError
        If there is no such outcome.
    """
    parts = {part.name: part for part in joint_outcomes(draws.binding) if _has_latent(part)}
    if check_text("name", name) not in parts:
        have = ", ".join(parts) or "none"
        raise ArgumentError(
            f"`{name}` is not an outcome with a latent function behind it."
            f"{nearest(name, parts)} There are: {have}. Unknowns with labels are read with "
            "posterior[name]."
        )
    part = parts[name]
    generator = generator_of(seed, Stream.LATENT)
    keep = in_all_chains(draws, kept_iterations(draws, MOST))
    family = family_of(part.family, part.arguments)
    axes = dict(draws.binding.program.outcome_axes)[name]
    if isinstance(family, StateSpace):
        if data is not None:
            raise ArgumentError("The states of a state-space model exist at the fitted rows only.")
        p = joint_arguments(draws, draws.binding, part, keep)
        seen = np.asarray(draws.binding.arguments["observed", name])
        states = family.draw_states(generator, seen, p, draws.count(keep))
        return states, (*axes, _state_axis(draws, part))
    found = condition_on_data(draws, part, data or draws.binding.tables, keep, generator)
    return found.latent, axes


def _has_latent(part: Part) -> bool:
    family = family_of(part.family, part.arguments)
    return isinstance(family, GaussianProcess | StateSpace)


def _state_axis(draws: Draws, part: Part) -> str:
    """Return the label set of the states, or `state` if they are written as lists."""
    item = draws.evaluation(keep=slice(0, 1)).parameters(part)["loading"]
    return next((axis for axis in item.labels if axis in draws.binding.labels), "state")
