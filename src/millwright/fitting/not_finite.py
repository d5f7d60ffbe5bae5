"""Why no point was found at which the density of a model is finite."""

from __future__ import annotations

import numpy as np

from millwright.distributions import on_numpy
from millwright.modelling.arguments import family_of
from millwright.modelling.binding import Binding
from millwright.modelling.density import log_density_terms, log_likelihood, place_unknowns
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import DRAW, full, twin
from millwright.modelling.space import places
from millwright.modelling.specification import Part

__all__ = ["not_finite"]

_MOST_NAMED = 3


def not_finite(binding: Binding, positions: np.ndarray) -> str:
    """Name the definitions whose density is not finite, and values tried."""
    with np.errstate(all="ignore"):
        found = log_density_terms(on_numpy, binding.program, binding.arguments, positions)
        evaluation, _ = place_unknowns(on_numpy, binding.program, binding.arguments, positions)
    shares = {name: float(np.mean(~np.isfinite(value))) for name, value in found.items()}
    bad = [name for name, share in shares.items() if share == max(shares.values()) > 0]
    if not bad:
        return "The density is finite there, but its gradient is not."
    definition = binding.specification.part(bad[0]).definition
    part = next(part for part in binding.program.parts if part.name == bad[0])
    tried = _tried(binding, evaluation)
    matrix = _matrix_at_fault(evaluation, part)
    if matrix:
        return f"Not finite: `{bad[0]}`, defined as {definition.text}. Tried {tried}. {matrix}"
    values = _values_at_fault(binding, evaluation, part)
    if values:
        return (
            f"Not finite: `{bad[0]}`, defined as {definition.text}, wherever its value in the "
            f"data is {values}, and nowhere else. The density is 0 or infinite there, as at an "
            "end of what a distribution can give, or beyond what numbers hold. If such values "
            "happen, say so in the model (a mixture, censoring, rounding, other units); else "
            "mend the rows."
        )
    return (
        f"Not finite: `{bad[0]}`, defined as {definition.text}. Tried, for instance, {tried}. "
        "Check that its arguments stay in their ranges (scales above zero, probabilities "
        "between 0 and 1) for values that the priors allow."
    )


def _values_at_fault(binding: Binding, evaluation: Evaluation, part: Part) -> str:
    """Return the values of an outcome, in words, that have no density whatever is unknown.

    Empty where it is not an outcome of numbers, where arguments are out of their range, or where
    that is so of all rows or of none.
    """
    if part not in binding.program.outcomes or part.event != "number":
        return ""
    family = family_of(part.family, part.arguments)
    with np.errstate(all="ignore"):
        named = evaluation.parameters(part)
        item = log_likelihood(evaluation, part)
    if not all(p.valid(named[p.name].values).all() for p in family.parameters if p.name in named):
        return ""
    seen = np.asarray(binding.arguments["observed", part.name], dtype=float)
    size = len(next(iter(evaluation.values.values())).values)
    found = full(item, (DRAW, *item.labels), (size, *seen.shape)).reshape(size, -1)
    never = ~np.isfinite(found).any(axis=0)
    if never.all() or not never.any():
        return ""
    values = np.unique(seen.reshape(-1)[never])
    more = f" (and {len(values) - _MOST_NAMED} others)" if len(values) > _MOST_NAMED else ""
    return ", ".join(f"{value:g}" for value in values[:_MOST_NAMED]) + more


def _matrix_at_fault(evaluation: Evaluation, part: Part) -> str:
    """Say whether a matrix in the arguments of a definition is not positive definite."""
    with np.errstate(all="ignore"):
        named = evaluation.parameters(part)
    for argument, item in named.items():
        square = [a for a in item.axes if twin(a) in item.axes]
        if square and np.isnan(on_numpy.cholesky(np.asarray(item.values, dtype=float))).any():
            return (
                f"Its `{argument}` is not positive definite there: no Cholesky factor exists. A "
                "covariance must be symmetric with variances large against rounding; adding a "
                "small variance to its diagonal mends one that is nearly singular."
            )
    return ""


def _tried(binding: Binding, evaluation: Evaluation) -> str:
    parts = []
    for place in places(binding.program)[:4]:
        value = np.asarray(evaluation.values[place.name].values)[0]
        parts.append(f"{place.name} = {np.atleast_1d(value).flat[0]:.3g}")
    return ", ".join(parts)
