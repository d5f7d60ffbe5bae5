"""Latent functions and states from the posterior, at the fitted rows and at new ones.

Gaussian processes are conditioned on what is known of them (Rasmussen and Williams 2006, eq.
2.22 to 2.24), draw by draw of the other unknowns; walks go on from their last value; states of
a state-space model are drawn given all readings.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.processes import GaussianProcess, Process
from millwright.distributions.state_space import StateSpace
from millwright.draws.labelled_draws import Draws, thinned
from millwright.errors import ArgumentError, DataError, ModelError, nearest
from millwright.modelling.arguments import family_of
from millwright.modelling.binding import Binding, bind
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import DRAW, Labelled
from millwright.modelling.shaping import spread_arguments
from millwright.modelling.simulate import draw_part
from millwright.modelling.specification import Part
from millwright.modelling.tables import Tables, joined
from millwright.sampling.streams import Stream, generator_of

__all__ = [
    "Conditional",
    "condition_on_data",
    "extended",
    "functions_of_prior",
    "grown_labels",
    "joint_outcomes",
    "latent",
    "replicate_around",
]

MOST = 1000
"""Draws used where each needs a factorisation of its own."""


@dataclass(frozen=True)
class Conditional:
    """A joint outcome at new rows given the fitted ones.

    Attributes
    ----------
    latent
        Draws without noise, shape (draws, new rows).
    outcome
        Draws with noise.
    mean, variance
        Of the outcome at each row, for each draw of the other unknowns.
    """

    latent: np.ndarray
    outcome: np.ndarray
    mean: np.ndarray
    variance: np.ndarray


def joint_outcomes(binding: Binding) -> list[Part]:
    """Return the outcomes whose rows depend on each other."""
    axes = dict(binding.program.outcome_axes)
    return [
        part
        for part in binding.program.outcomes
        if part.event == "vector" and len(axes[part.name]) == 1
    ]


def condition_on_data(
    draws: Draws, part: Part, tables: Tables, keep: slice, generator: np.random.Generator
) -> Conditional:
    """Draw a Gaussian-process outcome at new rows given the fitted ones, or go on with a series.

    Raises
    ------
    ModelError
        If the outcome is another process: its new rows have no place among the old ones.
    """
    family = family_of(part.family, part.arguments)
    if isinstance(family, StateSpace):
        return _forecast(draws, part, family, tables, keep, generator)
    if not isinstance(family, GaussianProcess):
        raise ModelError(
            part.definition.message(
                f"rows of a {part.family} depend on the rows before them, so new rows cannot be "
                "predicted on their own; make it an unknown `per` time, and extend that"
            )
        )
    both = _with_rows(draws, tables)
    seen = np.asarray(draws.binding.arguments["observed", part.name])
    return _given(part, family, _arguments(draws, both, part, keep), seen, generator)


def _with_rows(draws: Draws, tables: Tables) -> Binding:
    """Return the model bound to the fitted rows followed by new ones."""
    binding = draws.binding
    return bind(
        binding.specification,
        joined(binding.tables, tables),
        binding.labels,
        outcomes="optional",
        like=binding,
    )


def _forecast(
    draws: Draws,
    part: Part,
    family: StateSpace,
    tables: Tables,
    keep: slice,
    generator: np.random.Generator,
) -> Conditional:
    """Go on with a state-space series: the new rows follow the last one fitted."""
    binding = draws.binding
    axis = dict(binding.program.outcome_axes)[part.name][0]
    both = _with_rows(draws, tables)
    p = _arguments(draws, both, part, keep)
    seen = np.asarray(binding.arguments["observed", part.name])
    ahead = both.program.shape((axis,))[0] - len(seen)
    latent, mean, variance = family.ahead(generator, seen, p, ahead)
    size = len(draws.known(keep)[binding.program.unknowns[0].name].values)
    latent, mean, variance = (
        np.broadcast_to(one, (size, ahead)) for one in (latent, mean, variance)
    )
    noise = np.broadcast_to(p["noise"][..., None], (size, 1))
    outcome = latent + noise * generator.standard_normal((size, ahead))
    return Conditional(latent, outcome, mean, variance)


def functions_of_prior(
    along: Binding, part: Part, evaluation: Evaluation, generator: np.random.Generator, draws: int
) -> tuple[np.ndarray, np.ndarray]:
    """Draw a Gaussian-process outcome from its prior: without noise and with it, (draws, rows).

    Raises
    ------
    ArgumentError
        If the outcome is another process, whose rows follow each other in time.
    """
    family = family_of(part.family, part.arguments)
    if not isinstance(family, GaussianProcess):
        raise ArgumentError(
            f"The rows of `{part.name}` follow each other, so it has no line along a column: look "
            "at whole data sets with prior_data."
        )
    axes = (DRAW, *dict(along.program.outcome_axes)[part.name])
    named = spread_arguments(on_numpy, part, evaluation.parameters(part), axes, along.program)
    p = {name: np.asarray(value, dtype=float) for name, value in named.items()}
    size = (draws, *along.program.shape(axes[1:]))
    noise = p.pop("noise", np.zeros(1))
    functions = np.asarray(family.draw(generator, size, p), dtype=float)
    return functions, functions + noise * generator.standard_normal(size)


def _arguments(draws: Draws, binding: Binding, part: Part, keep: slice) -> dict[str, np.ndarray]:
    """Return the arguments of a joint outcome for each draw."""
    evaluation = draws.evaluation(binding, keep)
    axes = (DRAW, *dict(binding.program.outcome_axes)[part.name])
    named = evaluation.parameters(part)
    values = spread_arguments(on_numpy, part, named, axes, binding.program)
    return {name: np.asarray(value, dtype=float) for name, value in values.items()}


def _given(
    part: Part,
    family: GaussianProcess,
    p: dict[str, np.ndarray],
    seen: np.ndarray,
    rng: np.random.Generator,
) -> Conditional:
    """Condition a process on its first entries, draw by draw.

    Parameters
    ----------
    seen
        Values of the first entries, shape (known,) or (draws, known).
    """
    size = max(len(value) if value.ndim > 1 else 1 for value in p.values())
    size = max(size, len(seen) if seen.ndim > 1 else 1)
    total, known = p["kernel"].shape[-1], seen.shape[-1]
    new = total - known
    noise2 = np.broadcast_to(p.get("noise", np.zeros(1)), (size, total)) ** 2
    kernel = np.broadcast_to(p["kernel"], (size, total, total))
    centre = np.broadcast_to(p["location"], (size, total))
    values = np.broadcast_to(seen, (size, known))
    results = [np.empty((size, new)) for _ in range(3)]
    for at in range(size):
        whole = kernel[at]
        extra = noise2[at, :known] + 1e-8 * np.mean(np.diagonal(whole))
        factor = on_numpy.cholesky(whole[:known, :known] + np.diag(extra))
        if not np.isfinite(factor).all():
            raise ModelError(
                part.definition.message(
                    "its covariance is not positive definite at a draw of the posterior, so it "
                    "cannot be followed to new places; add a little noise"
                )
            )
        across = np.linalg.solve(factor, whole[:known, known:])
        z = np.linalg.solve(factor, values[at] - centre[at, :known])
        mean = centre[at, known:] + across.T @ z
        cov = whole[known:, known:] - across.T @ across
        spectrum, vectors = np.linalg.eigh(0.5 * (cov + cov.T))
        steps = np.sqrt(np.maximum(spectrum, 0.0)) * rng.standard_normal(new)
        results[0][at] = mean + vectors @ steps
        results[1][at] = mean
        results[2][at] = np.maximum(np.diagonal(cov), 0.0) + noise2[at, known:]
    noise = np.sqrt(noise2[:, known:]) * rng.standard_normal((size, new))
    return Conditional(results[0], results[0] + noise, results[1], results[2])


def replicate_around(
    draws: Draws, part: Part, keep: slice, generator: np.random.Generator
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
    p = _arguments(draws, draws.binding, part, keep)
    seen = np.asarray(draws.binding.arguments["observed", part.name])
    states = family.draw_states(generator, seen, p)
    readings = np.sum(states * p["loading"][..., None, :], axis=-1) + p.get("location", 0.0)
    return np.asarray(readings + p["noise"][..., None] * generator.standard_normal(readings.shape))


def latent(
    draws: Draws, name: str, data: Tables | None, seed: int
) -> tuple[np.ndarray, tuple[str, ...]]:
    """Draw the latent function behind a joint outcome, at the fitted rows or at new ones.

    Returns
    -------
    Draws (draws, rows), or (draws, rows, states) for a state-space model, and their axes.

    Raises
    ------
    ArgumentError
        If there is no such outcome.
    """
    parts = {part.name: part for part in joint_outcomes(draws.binding)}
    if name not in parts:
        have = ", ".join(parts) or "none"
        raise ArgumentError(
            f"`{name}` is not an outcome with a latent function behind it."
            f"{nearest(name, parts)} There are: {have}. Unknowns with labels are read with "
            "posterior[name]."
        )
    part = parts[name]
    generator = generator_of(seed, Stream.LATENT)
    keep = thinned(draws, MOST)
    family = family_of(part.family, part.arguments)
    axes = dict(draws.binding.program.outcome_axes)[name]
    if isinstance(family, StateSpace):
        if data is not None:
            raise ArgumentError("The states of a state-space model exist at the fitted rows only.")
        p = _arguments(draws, draws.binding, part, keep)
        seen = np.asarray(draws.binding.arguments["observed", name])
        states = family.draw_states(generator, seen, p)
        return states, (*axes, _state_axis(draws, part))
    found = condition_on_data(draws, part, data or draws.binding.tables, keep, generator)
    return found.latent, axes


def _state_axis(draws: Draws, part: Part) -> str:
    """Return the label set of the states, or `state` if they are written as lists."""
    item = draws.evaluation(keep=slice(0, 1)).parameters(part)["loading"]
    return next((axis for axis in item.labels if axis in draws.binding.labels), "state")


def extended(
    draws: Draws, along: Binding, keep: slice, generator: np.random.Generator
) -> dict[str, Labelled]:
    """Return the unknowns for a binding of new rows whose label sets have grown.

    Processes over a label set that has new labels are carried on from their draws at the old
    labels; effects of groups are drawn for the new ones from the distribution of the groups.
    """
    known = draws.known(keep)
    evaluation = along.evaluation({})
    old = draws.binding.labels
    for part in along.program.unknowns:
        item = known[part.name]
        if any(len(along.labels[s]) > len(old[s]) for s in part.per):
            item = _extend(part, item, along, evaluation, generator)
        evaluation.values[part.name] = item
    return {part.name: evaluation.values[part.name] for part in along.program.unknowns}


def _extend(
    part: Part,
    item: Labelled,
    along: Binding,
    evaluation: Evaluation,
    generator: np.random.Generator,
) -> Labelled:
    family = family_of(part.family, part.arguments)
    axes = (DRAW, *part.axes)
    if not isinstance(family, Process):
        drawn = draw_part(part, part.axes, len(item.values), generator, evaluation).values.copy()
        drawn[tuple(slice(0, n) for n in item.values.shape)] = item.values
        return Labelled(drawn, axes)
    named = evaluation.parameters(part)
    p = {
        name: np.asarray(value, dtype=float)
        for name, value in spread_arguments(on_numpy, part, named, axes, along.program).items()
    }
    old = np.asarray(item.values)
    if isinstance(family, GaussianProcess):
        return Labelled(_functions_at_more(part, family, p, old, generator), axes)
    size = (*old.shape[:-1], along.program.shape(part.per)[-1])
    # Steps up to the last known value are those that made it; those after it are drawn.
    fresh = np.asarray(family.to_steps(family.draw(generator, size, p), p)).copy()
    padded = np.concatenate([old, np.zeros((*old.shape[:-1], size[-1] - old.shape[-1]))], axis=-1)
    fresh[..., : old.shape[-1]] = family.to_steps(padded, p)[..., : old.shape[-1]]
    return Labelled(np.asarray(family.from_steps(on_numpy, fresh, p)), axes)


def _functions_at_more(
    part: Part,
    family: GaussianProcess,
    p: dict[str, np.ndarray],
    old: np.ndarray,
    generator: np.random.Generator,
) -> np.ndarray:
    """Return Gaussian processes at their old labels and then at the new ones.

    Values have shape (draws, labels), or (draws, copies..., labels) for one process a copy.
    """
    if old.ndim == 2:
        more = _given(part, family, p, old, generator).latent
        return np.concatenate([old, more], axis=-1)
    copies = []
    for at in range(old.shape[1]):
        # An argument that all copies share has length 1 there, or no axis at all.
        own = {
            name: value[:, min(at, value.shape[1] - 1)] if value.ndim > 1 else value
            for name, value in p.items()
        }
        copies.append(_functions_at_more(part, family, own, old[:, at], generator))
    return np.stack(copies, axis=1)


def _all_after(new: Sequence[Any], old: Sequence[Any]) -> bool:
    """Whether all new labels come after the old ones: in number, or in the order of text."""
    if any(isinstance(label, str) for label in (*new, *old)):
        return min(map(str, new)) > max(map(str, old))
    return min(map(float, new)) > max(map(float, old))


def grown_labels(
    draws: Draws, tables: Tables, fresh: bool = False
) -> dict[str, tuple[Any, ...]] | None:
    """Return label sets with the new rows' labels added, or None if there are no new ones.

    Label sets of processes can grow; those of other unknowns if `fresh`. A walk goes forward, so
    its new labels must come after the old ones.
    """
    binding = draws.binding
    result = dict(binding.labels)
    for part in binding.program.unknowns:
        family = family_of(part.family, part.arguments)
        if not isinstance(family, Process) or part.per[-1] not in tables.columns:
            continue
        name = part.per[-1]
        old = binding.labels[name]
        new = [label for label in tables.labels(name) if label not in set(old)]
        if new and not isinstance(family, GaussianProcess) and not _all_after(new, old):
            raise DataError(
                part.definition.message(
                    f"new labels of `{name}` must come after the last one fitted ({old[-1]}), "
                    f"but there are {', '.join(map(str, new[:4]))}"
                )
            )
        result[name] = (*old, *new)
    if fresh:
        _add_levels(draws, tables, result)
    return result if result != dict(binding.labels) else None


def _add_levels(draws: Draws, tables: Tables, result: dict[str, tuple[Any, ...]]) -> None:
    """Add the new levels of label sets that only effects of groups run over."""
    for part in draws.binding.program.unknowns:
        if isinstance(family_of(part.family, part.arguments), Process):
            continue
        for name in part.per:
            if name in tables.columns:
                known = set(result[name])
                new = [label for label in tables.labels(name) if label not in known]
                result[name] = (*result[name], *new)
