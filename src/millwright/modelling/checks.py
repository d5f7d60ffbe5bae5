"""Checks of arguments and outcomes, as far as they depend on no unknown."""

from __future__ import annotations

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.family import DOMAIN_WORDS, Family, Parameter, Support
from millwright.distributions.recording import Rounded
from millwright.distributions.state_space import StateSpace
from millwright.distributions.vector import LabelFamily, VectorFamily
from millwright.errors import DataError, ModelError
from millwright.language.printing import text_of
from millwright.language.tree import Node
from millwright.modelling.arguments import family_of
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import Labelled
from millwright.modelling.series_checks import check_first_state, check_times
from millwright.modelling.shaping import spread_arguments
from millwright.modelling.specification import Part, rests_on_unknowns
from millwright.modelling.tables import row_words

__all__ = ["check_arguments", "check_outcome"]

_OFF_THE_GRID = 0.05
"""In steps; conversions of units leave a part of this."""


def check_arguments(part: Part, named: dict[str, Labelled], evaluation: Evaluation) -> None:
    """Refuse arguments that make no sense, where they depend on no unknown."""
    family = family_of(part.family, part.arguments)
    domains = {parameter.name: parameter for parameter in family.parameters}
    for name, node in part.arguments:
        if name not in domains:
            continue
        if rests_on_unknowns(node, evaluation.program.by_name):
            _refuse_unknown_number(part, name, node, domains[name])
            continue
        value = np.asarray(named[name].values, dtype=float)
        valid = domains[name].valid(value)
        if not np.all(valid):
            wrong = np.atleast_1d(value)[~np.atleast_1d(valid)]
            where = np.flatnonzero(
                ~np.atleast_1d(valid).reshape(len(np.atleast_1d(valid)), -1).all(1)
            )
            rows = f" (in {row_words(where)})" if named[name].axes else ""
            raise ModelError(
                part.definition.message(
                    f"`{name}` must be {DOMAIN_WORDS[domains[name].domain]}, "
                    f"but is {wrong[0]:g}{rows}",
                    node,
                )
            )
    _check_bounds(part, named, evaluation)
    if part.family == "state_space" and "time" in named:
        check_times(part, named["time"], evaluation)


def _refuse_unknown_number(part: Part, name: str, node: Node, parameter: Parameter) -> None:
    """Refuse an unknown where a whole number is needed: it would be none."""
    if parameter.domain == "count":
        raise ModelError(
            part.definition.message(
                f"`{name}` must be {DOMAIN_WORDS['count']}, and what rests on an unknown may be "
                "any number between. Take it from data, or model the counts by a rate, as in "
                "poisson(rate=...)",
                node,
            )
        )


def _check_bounds(part: Part, named: dict[str, Labelled], evaluation: Evaluation) -> None:
    """Refuse a lower end that is not below the upper one, where both are known."""
    nodes = dict(part.arguments)
    if not {"low", "high"} <= set(nodes) or any(
        rests_on_unknowns(nodes[name], evaluation.program.by_name) for name in ("low", "high")
    ):
        return
    low, high = (np.asarray(named[name].values, dtype=float) for name in ("low", "high"))
    if low.shape == high.shape and np.any(low >= high):
        raise ModelError(
            part.definition.message(
                f"`low` must be below `high`, but {low.flat[0]:g} is not below {high.flat[0]:g}",
                nodes["low"],
            )
        )


def check_outcome(part: Part, axes: tuple[str, ...], evaluation: Evaluation) -> None:
    """Refuse observed values with zero density whatever the unknowns are."""
    values = evaluation.arguments["observed", part.name]
    if part.event == "label":
        _check_labels(part, axes, evaluation)
        return
    if part.event == "vector":
        _check_vectors(part, axes, evaluation)
        return
    support = _known_support(part, axes, evaluation)
    inside = support.contains(values)
    _refuse_values(part, ~np.broadcast_to(inside, np.shape(values)), values, support.words())
    _check_grid(part, axes, evaluation)


def _check_grid(part: Part, axes: tuple[str, ...], evaluation: Evaluation) -> None:
    """Refuse rounded values that are between the multiples of a known step."""
    step = dict(part.arguments).get("to")
    rounded = isinstance(family_of(part.family, part.arguments), Rounded)
    if not rounded or step is None or rests_on_unknowns(step, evaluation.program.by_name):
        return
    named = evaluation.parameters(part)
    to = spread_arguments(on_numpy, part, named, axes, evaluation.program)["to"]
    values = np.asarray(evaluation.arguments["observed", part.name], dtype=float)
    steps = values / to
    advice = "; state the step that they were recorded to, or shift them to multiples of it"
    off = np.abs(steps - np.round(steps)) > _OFF_THE_GRID
    _refuse_values(part, off, values, "multiples of `to`", advice)


def _refuse_values(
    part: Part, wrong: np.ndarray, values: np.ndarray, gives: str, advice: str = ""
) -> None:
    """Refuse values of an outcome that are wrong, if there are any, with their rows."""
    if not wrong.any():
        return
    # Of a matrix of columns a row is wrong if any of its values is.
    rows = np.flatnonzero(wrong.reshape(len(wrong), -1).any(axis=1))
    seen = ", ".join(f"{value:g}" for value in np.asarray(values)[wrong][:5])
    expression = part.definition.expression
    raise DataError(
        part.definition.message(
            f"`{text_of(expression)}` gives {gives}, but the data have {seen} in "
            f"{row_words(rows)}{advice}",
            expression,
        )
    )


def _check_labels(part: Part, axes: tuple[str, ...], evaluation: Evaluation) -> None:
    """Refuse arguments that do not have one entry for each of the outcome's labels."""
    family = family_of(part.family, part.arguments)
    assert isinstance(family, LabelFamily)
    named = evaluation.parameters(part)
    values = spread_arguments(on_numpy, part, named, axes, evaluation.program)
    found = np.shape(family.log_probabilities(on_numpy, values))[-1]
    labels = dict(evaluation.program.labels)[part.name]
    if found == len(labels):
        return
    shown = ", ".join(map(str, labels[:8]))
    vector = next(q.name for q in family.parameters if q.rank and q.name in named)
    extra = "" if vector != "cuts" else " (one cut point fewer than labels)"
    raise ModelError(
        part.definition.message(
            f"its `{vector}` makes {found} labels, but `{part.name}` has {len(labels)}: "
            f"{shown}{extra}",
            dict(part.arguments)[vector],
        )
    )


def _check_vectors(part: Part, axes: tuple[str, ...], evaluation: Evaluation) -> None:
    """Refuse rows that lie outside the support."""
    family = family_of(part.family, part.arguments)
    assert isinstance(family, VectorFamily)
    named = evaluation.parameters(part)
    given = spread_arguments(on_numpy, part, named, axes, evaluation.program)
    observed = evaluation.arguments["observed", part.name]
    if isinstance(family, StateSpace):
        known = evaluation.program.by_name
        check_first_state(part, family, np.asarray(observed), given, known)
        observed = np.nan_to_num(observed, nan=0.0)
    inside = np.atleast_1d(family.contains(observed, given))
    if not inside.all():
        raise DataError(
            part.definition.message(
                f"`{text_of(part.definition.expression)}` gives {family.contents()}, but the "
                f"data do not in {row_words(np.flatnonzero(~inside))}",
                part.definition.expression,
            )
        )


def _known_support(part: Part, axes: tuple[str, ...], evaluation: Evaluation) -> Support:
    """Return the support as far as it depends on no unknown."""
    named = evaluation.parameters(part)
    values = spread_arguments(on_numpy, part, named, axes, evaluation.program)
    family = family_of(part.family, part.arguments)
    assert isinstance(family, Family)
    support = family.support(values)
    free = {
        name
        for name, node in part.arguments
        if rests_on_unknowns(node, evaluation.program.by_name)
    }
    if part.family == "uniform" or {"low", "high"} & set(values):
        lower = None if "low" in free else support.lower
        upper = None if "high" in free else support.upper
        return Support(lower, upper, support.whole)
    return support
