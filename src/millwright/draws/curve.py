"""The expectation of an outcome as a function of one column, with bands."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, replace

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.processes import GaussianProcess
from millwright.draws.conditioning import condition_on_data, joint_outcomes
from millwright.draws.extending import extended
from millwright.draws.labelled_draws import Draws, thinned
from millwright.draws.latent import functions_of_prior
from millwright.draws.new_labels import grown_labels
from millwright.errors import ArgumentError, nearest
from millwright.modelling.arguments import family_of
from millwright.modelling.binding import Binding, bind
from millwright.modelling.drawn_columns import outcomes_read
from millwright.modelling.labelled import DRAW, full
from millwright.modelling.shaping import spread_arguments
from millwright.modelling.simulate import draw_outcomes
from millwright.modelling.tables import Column, Tables
from millwright.sampling.streams import Stream, generator_of

__all__ = ["Curve", "curve"]


@dataclass(frozen=True)
class Curve:
    """Draws of an outcome along one column.

    Attributes
    ----------
    x
        Grid over the data's range, shape (points,).
    expected
        Expectation of the outcome for each draw, shape (draws, points).
    outcomes
        One predictive draw for each, shape (draws, points).
    held
        Columns held at one value meanwhile, with that value.
    at
        Where the observed rows lie along the column, shape (rows,).
    yes_or_no
        Whether the outcome is 0 or 1, so that its expectation is a probability.
    """

    x: np.ndarray
    expected: np.ndarray
    outcomes: np.ndarray
    held: dict[str, float | str]
    at: np.ndarray
    yes_or_no: bool = False


def curve(
    draws: Draws,
    column: str,
    outcome: str | None,
    seed: int,
    points: int = 60,
    most: int = 1000,
    prior: bool = False,
) -> Curve:
    """Follow an outcome along a column; other numeric columns stay at their mean, columns of
    labels at their most frequent label.

    Draws from the `prior` are not conditioned on the data.

    Raises
    ------
    ArgumentError
        If the column or the outcome is not there, or the column holds no numbers.
    """
    binding = draws.binding
    if not isinstance(column, str):
        raise ArgumentError(f"`column` must be the name of a column, not {column!r}.")
    part = _outcome(binding, outcome)
    axis = dict(binding.program.outcome_axes)[part][0]
    used = set(binding.program.column_axes)
    at = _places(binding, column, points)
    points = len(at)
    tables, held = _grid(binding, column, axis, at, used)
    seen = _values_along(binding.tables, column)
    grown = grown_labels(draws, tables)
    along = bind(
        binding.specification,
        tables,
        grown or binding.labels,
        outcomes="optional",
        like=binding,
    )
    keep = thinned(draws, most)
    generator = generator_of(seed, Stream.CURVE)
    known = extended(draws, along, keep, generator) if grown else draws.known(keep)
    evaluation = along.evaluation(known)
    size = len(next(iter(draws.known(keep).values())).values)
    definition = next(p for p in along.program.outcomes if p.name == part)
    # Of the outcomes those count that other ones read.
    unread = {p.name for p in binding.program.outcomes} - outcomes_read(binding.specification)
    shown = {name: value for name, value in held.items() if name not in {*unread, part}}
    if part in [joint.name for joint in joint_outcomes(along)]:
        if definition.family != "gaussian_process":
            raise ArgumentError(
                f"The rows of `{part}` depend on each other, so it has no line along a column: "
                "look at whole data sets of the prior, or at the series and how it goes on."
            )
        if prior:
            functions = functions_of_prior(along, definition, evaluation, generator, size)
            return Curve(at, *functions, shown, seen)
        found = condition_on_data(draws, definition, tables, keep, generator)
        return Curve(at, found.latent, found.outcome, shown, seen)
    if definition.event != "number":
        raise ArgumentError(
            f"A fitted line needs an outcome with one number a row; `{part}` is a "
            f"{definition.event}."
        )
    copies = draw_outcomes(along, size, generator, evaluation)[part]
    given = evaluation.parameters(definition)
    named = spread_arguments(on_numpy, definition, given, (DRAW, axis), along.program)
    family = family_of(definition.family, definition.arguments)
    with np.errstate(all="ignore"):
        expected = np.broadcast_to(family.mean(named), (size, points))
    if np.isnan(expected).any() and "location" in named:
        expected = full(given["location"], (DRAW, axis), (size, points))
    binary = definition.family == "bernoulli"
    return Curve(at, expected, copies, shown, seen, binary)


def _outcome(binding: Binding, outcome: str | None) -> str:
    names = [part.name for part in binding.program.outcomes]
    if outcome is None and len(names) == 1:
        return names[0]
    if outcome not in names:
        asked = "Say which outcome" if outcome is None else f"There is no outcome `{outcome}`"
        raise ArgumentError(f"{asked}: {', '.join(names)}.")
    return outcome


def _places(binding: Binding, column: str, points: int) -> np.ndarray:
    """Return where to look along a column: at its labels, if effects or walks hang on them."""
    inside = _in_matrix(binding.tables, column)
    if inside is not None:
        ends = _values_along(binding.tables, column)
        return np.linspace(np.nanmin(ends), np.nanmax(ends), points)
    found = binding.tables.columns.get(column)
    if found is None or not found.numeric or found.values.ndim > 1:
        return np.zeros(points)
    on_it = [part for part in binding.program.unknowns if column in part.per]
    smooth = all(
        isinstance(family_of(part.family, part.arguments), GaussianProcess) for part in on_it
    )
    if smooth:
        return np.linspace(np.nanmin(found.values), np.nanmax(found.values), points)
    return np.array(sorted(float(label) for label in binding.labels[column]))


def _grid(
    binding: Binding, column: str, axis: str, at: np.ndarray, used: set[str]
) -> tuple[Tables, dict[str, float | str]]:
    """Return tables in which the outcome's table is a grid along `column`."""
    tables, points = binding.tables, len(at)
    inside = _in_matrix(tables, column)
    if inside is not None and inside[0] in used:
        return _matrix_grid(tables, inside, axis, at, used, binding)
    if column not in tables.columns or column not in used:
        known = [name for name in used if tables.columns.get(name) is not None]
        known += [
            f"{name}[{label}]" for name in known for label in tables.matrix_labels.get(name, ())
        ]
        raise ArgumentError(
            f"`{column}` is not a column that the model uses.{nearest(column, known)} "
            f"Columns: {', '.join(sorted(known))}."
        )
    chosen = tables.columns[column]
    if not chosen.numeric or chosen.axes != (axis,):
        raise ArgumentError(f"`{column}` must be a column of numbers in the outcome's table.")
    columns: dict[str, Column] = {}
    held: dict[str, float | str] = {}
    for name, old in tables.columns.items():
        if not old.axes or old.axes[0] != axis:
            columns[name] = old
        elif name == column:
            columns[name] = replace(old, values=at)
        elif name in used:
            columns[name], value = _held(old, points, name in binding.labels)
            if value is not None:
                held[name] = value
    return Tables(columns, {**tables.sizes, axis: points}, tables.matrix_labels), held


def _in_matrix(tables: Tables, column: str) -> tuple[str, int] | None:
    """Return the matrix and the position of a column that is one of several: `X[flow]`, `flow`."""
    for name, labels in tables.matrix_labels.items():
        for position, label in enumerate(labels):
            own = column == str(label) and not str(label).isdigit()
            if (own or column == f"{name}[{label}]") and name in tables.columns:
                return name, position
    return None


def _values_along(tables: Tables, column: str) -> np.ndarray:
    inside = _in_matrix(tables, column)
    if inside is not None:
        return np.asarray(tables.columns[inside[0]].values[:, inside[1]])
    return np.asarray(tables.columns[column].values)


def _matrix_grid(
    tables: Tables,
    inside: tuple[str, int],
    axis: str,
    at: np.ndarray,
    used: set[str],
    binding: Binding,
) -> tuple[Tables, dict[str, float | str]]:
    """Return tables in which one column of a matrix runs along a grid, the rest held."""
    name, position = inside
    columns: dict[str, Column] = {}
    held: dict[str, float | str] = {}
    for other, old in tables.columns.items():
        if not old.axes or old.axes[0] != axis:
            columns[other] = old
        elif other in used:
            columns[other], value = _held(old, len(at), other in binding.labels)
            if value is not None:
                held[other] = value
    values = columns[name].values.copy()
    values[:, position] = at
    means = values[0]
    columns[name] = replace(columns[name], values=values)
    labels = tables.matrix_labels[name]
    held |= {
        str(label): float(means[number])
        for number, label in enumerate(labels)
        if number != position
    }
    return Tables(columns, {**tables.sizes, axis: len(at)}, tables.matrix_labels), held


def _held(column: Column, points: int, labels: bool) -> tuple[Column, float | str | None]:
    if not column.numeric:
        label = Counter(column.values).most_common(1)[0][0]
        values = np.empty(points, dtype=object)
        values[:] = label
        return replace(column, values=values), str(label)
    if labels and column.values.ndim == 1:
        # A mean of labels need not be a label.
        common = float(Counter(column.values.tolist()).most_common(1)[0][0])
        return replace(column, values=np.full(points, common)), common
    mean = np.nanmean(column.values, axis=0)
    values = np.broadcast_to(mean, (points, *np.shape(mean))).copy()
    return replace(column, values=values), float(mean) if np.ndim(mean) == 0 else None
