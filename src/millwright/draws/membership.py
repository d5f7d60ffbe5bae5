"""Which component of a mixture each row came from, after the fit."""

from __future__ import annotations

import numpy as np

from millwright.checks import check_text
from millwright.distributions import on_numpy
from millwright.distributions.mixtures import Mixture, MixtureOverLabels
from millwright.draws.labelled_draws import Draws, thinned
from millwright.errors import ArgumentError, nearest
from millwright.modelling.arguments import family_of
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import DRAW
from millwright.modelling.shaping import own_axis, spread_arguments
from millwright.modelling.specification import Part

__all__ = ["membership"]

_MOST = 2000


def membership(draws: Draws, outcome: str | None) -> tuple[str, np.ndarray, tuple[object, ...]]:
    """Return the posterior probability of each component for each row.

    Given the unknowns, the probability of a component is its share of the row's density (Bayes'
    rule); this is averaged over the draws.

    Returns
    -------
    Name of the outcome, probabilities of shape (rows, components), and the components' labels.

    Raises
    ------
    ArgumentError
        If there is no such mixture.
    """
    parts = {
        part.name: part
        for part in draws.binding.program.outcomes
        if isinstance(family_of(part.family, part.arguments), Mixture | MixtureOverLabels)
    }
    if outcome is None and len(parts) == 1:
        outcome = next(iter(parts))
    if outcome is None or check_text("outcome", outcome) not in parts:
        asked = "Say which outcome" if outcome is None else f"`{outcome}` is not a mixture"
        have = ", ".join(parts) or "none"
        words = nearest(outcome or "", parts)
        raise ArgumentError(f"{asked}.{words} Outcomes that are mixtures: {have}.")
    part = parts[outcome]
    family = family_of(part.family, part.arguments)
    assert isinstance(family, Mixture | MixtureOverLabels)
    evaluation = draws.evaluation(keep=thinned(draws, _MOST))
    axes = (DRAW, *dict(draws.binding.program.outcome_axes)[outcome])
    named = evaluation.parameters(part)
    p = spread_arguments(on_numpy, part, named, axes, draws.binding.program)
    seen = np.asarray(draws.binding.arguments["observed", outcome])[None]
    with np.errstate(all="ignore"):
        logs = np.asarray(family.log_parts(on_numpy, seen, p))
    shares = np.exp(logs - logs.max(axis=-1, keepdims=True))
    shares /= shares.sum(axis=-1, keepdims=True)
    return outcome, shares.mean(axis=0), _labels(draws, part, evaluation, shares.shape[-1])


def _labels(draws: Draws, part: Part, evaluation: Evaluation, size: int) -> tuple[object, ...]:
    """Return the components' labels, or `first` and `second`, or numbers from 1."""
    if "weights" not in dict(part.arguments):
        return ("first", "second")
    batch = dict(draws.binding.program.outcome_axes)[part.name]
    owners = (own_axis(item, batch) for item in evaluation.parameters(part).values())
    known = draws.binding.labels
    named = (known[axis] for axis in owners if axis is not None and axis in known)
    return tuple(next(named, range(1, size + 1)))
