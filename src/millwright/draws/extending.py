"""Unknowns at labels that the fit has not seen.

Walks go on from their last value, Gaussian processes are conditioned on theirs, and effects of
groups are drawn from the distribution of the groups.
"""

from __future__ import annotations

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.processes import GaussianProcess, Process
from millwright.draws.conditioning import conditioned
from millwright.draws.labelled_draws import Draws, Keep
from millwright.modelling.arguments import family_of
from millwright.modelling.binding import Binding
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import DRAW, Labelled
from millwright.modelling.shaping import spread_arguments
from millwright.modelling.simulate import draw_part
from millwright.modelling.specification import Part

__all__ = ["extended"]


def extended(
    draws: Draws, along: Binding, keep: Keep, generator: np.random.Generator
) -> dict[str, Labelled]:
    """Return the unknowns for a binding of new rows whose label sets have grown, or with gaps.

    Processes over a label set that has new labels are carried on from their draws at the old
    labels; effects of groups are drawn for the new ones from the distribution of the groups, and
    missing values of predictors from the distributions of their columns.
    """
    known = draws.known(keep)
    evaluation = along.evaluation({})
    old, size = draws.binding.labels, draws.count(keep)
    for part in along.program.unknowns:
        if part.rows_of:
            # Those of the fit belong to its own rows.
            drawn = draw_part(part, part.axes, size, generator, evaluation)
            evaluation.values[part.name] = drawn
            continue
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
        more = conditioned(part, family, p, old, generator).latent
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
