"""The log density of a bound model, as a pure function of position and arguments."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from millwright.distributions.matern import Along
from millwright.distributions.mathematics import Array, Mathematics
from millwright.modelling.along_one_axis import along_one_axis
from millwright.modelling.anchors import placed_middle
from millwright.modelling.arguments import family_of
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.hierarchy import place_group
from millwright.modelling.labelled import DRAW, Labelled, spread_over, union_axes
from millwright.modelling.linear_total import normal_total
from millwright.modelling.middles import in_order, middles
from millwright.modelling.parameterisations import informed_by_readings
from millwright.modelling.program import COUNTS, FACTOR, ROWS, WEIGHTS, Arguments, Program
from millwright.modelling.series_readings import constants_for, lost_in_rounding
from millwright.modelling.shaping import check_axes, split_axes, spread_arguments
from millwright.modelling.space import onto_support, places
from millwright.modelling.specification import Part

__all__ = [
    "LogDensity",
    "SplitLogDensity",
    "log_likelihood",
    "log_density_terms",
    "outcome_total",
    "term_total",
]


@dataclass(frozen=True)
class LogDensity:
    """Log density of the unknowns at an unconstrained position, up to a constant.

    Calls with the same program share one compiled function: the object compares by content.

    Attributes
    ----------
    jacobian
        Whether the density is that of the unconstrained coordinates (for sampling) or of the
        unknowns themselves (for modes).
    prior
        Whether the prior counts; without it this is the log likelihood.
    """

    program: Program
    jacobian: bool = True
    prior: bool = True

    def __call__(self, position: Array, arguments: Arguments) -> Array:
        """Return the log density (scalar) at `position`, float64 of shape (dimension,)."""
        # JAX takes a second to load, and only what is compiled needs it.
        from millwright.distributions import on_jax

        total = 0.0
        for value in log_density_terms(
            on_jax, self.program, arguments, position, self.jacobian, self.prior
        ).values():
            total = total + value
        return total


@dataclass(frozen=True)
class SplitLogDensity:
    """Log prior and log likelihood apart; terms added to the log density go with the latter."""

    program: Program
    jacobian: bool = True
    prior: bool = True

    def __call__(self, position: Array, arguments: Arguments) -> tuple[Array, Array]:
        """Return both (scalars) at `position`, float64 of shape (dimension,)."""
        from millwright.distributions import on_jax

        return self.parts(on_jax, position, arguments)

    def parts(self, m: Mathematics, position: Array, arguments: Arguments) -> tuple[Array, Array]:
        """Return both at a position, or at each of several."""
        found = log_density_terms(m, self.program, arguments, position, self.jacobian, self.prior)
        unknown = {part.name for part in self.program.unknowns}
        prior = likelihood = m.asarray(0.0)
        for name, value in found.items():
            if name in unknown:
                prior = prior + value
            else:
                likelihood = likelihood + value
        return prior, likelihood


def check_unknown_axes(part: Part, named: dict[str, Labelled], evaluation: Evaluation) -> None:
    """Refuse a prior whose arguments have label sets that its `per` does not name."""
    check_axes(
        part,
        named,
        part.axes,
        evaluation.program,
        "; add `per {axis}` if one unknown for each is meant",
    )


@dataclass(frozen=True)
class Placed:
    """What comes with an unknown when it is read off a position.

    Attributes
    ----------
    named
        Arguments of its prior.
    log_slope
        Log derivatives of the map onto its support; None in standard coordinates.
    joint
        Log prior plus log derivatives in standard coordinates, else None.
    """

    named: dict[str, Labelled]
    log_slope: Labelled | None = None
    joint: Labelled | None = None


def place_unknowns(
    m: Mathematics, program: Program, arguments: Arguments, position: Array
) -> tuple[Evaluation, dict[str, Placed]]:
    """Read unknowns off a position, or off many at once if it has a leading axis of draws.

    Returns an evaluation that knows all unknowns, and what comes with each.
    """
    pieces = {place.name: position[..., place.start : place.stop] for place in places(program)}
    return place_pieces(m, program, arguments, pieces)


def place_pieces(
    m: Mathematics, program: Program, arguments: Arguments, pieces: Mapping[str, Array]
) -> tuple[Evaluation, dict[str, Placed]]:
    """Read unknowns off their own pieces of a position, each (size,) or (draws, size)."""
    evaluation = Evaluation(m, program, arguments)
    found: dict[str, Placed] = {}
    place_of = {place.name: place for place in places(program)}
    # What readings say of a series rests on all other unknowns.
    parts = sorted(in_order(program), key=lambda part: informed_by_readings(program, part))
    for part in parts:
        place = place_of[part.name]
        lead = pieces[part.name].shape[:-1]
        axes = (DRAW, *place.axes) if lead else place.axes
        piece = pieces[part.name].reshape(lead + place.shape)
        named = evaluation.parameters(part)
        check_unknown_axes(part, named, evaluation)
        values = spread_arguments(m, part, named, axes, program)
        if part.name in program.mapped:
            constants = constants_for(evaluation, part)
            x, joint = place_group(m, part, piece, values, constants)
            if constants is not None and informed_by_readings(program, part):
                lost = lost_in_rounding(m, part, x, values, constants[0])
                joint = m.where(lost, -m.inf, joint)
            copies = split_axes(part.event, axes)[0]
            found[part.name] = Placed(named, joint=Labelled(joint, copies))
        else:
            if part.name in middles(program):
                x, log_slope = placed_middle(evaluation, part, piece)
            else:
                x, log_slope = onto_support(m, part, piece, values)
            copies = split_axes(part.event, axes)[0]
            found[part.name] = Placed(named, log_slope=Labelled(log_slope, copies))
        evaluation.values[part.name] = Labelled(x, axes)
    return evaluation, found


def log_density_terms(
    m: Mathematics,
    program: Program,
    arguments: Arguments,
    position: Array,
    jacobian: bool = True,
    prior: bool = True,
) -> dict[str, Array]:
    """Return each definition's contribution to the log density, by name.

    `position` has shape (dimension,), or (draws, dimension) for one total per draw.
    """
    evaluation, found = place_unknowns(m, program, arguments, position)
    result: dict[str, Array] = {}
    for part in program.unknowns:
        placed = found[part.name]
        parts: list[Labelled] = []
        if placed.joint is not None:
            parts.append(placed.joint)
        else:
            if jacobian and placed.log_slope is not None:
                parts.append(placed.log_slope)
            if prior:
                value = evaluation.values[part.name]
                found_prior = log_density_of(part, value, placed.named, evaluation)
                if part.name in program.weighted:
                    found_prior = _weighed(m, found_prior, arguments[WEIGHTS, part.name])
                parts.append(found_prior)
        if parts:
            result[part.name] = _total(m, parts)
    for part in program.outcomes:
        result[part.name] = outcome_total(evaluation, part)
    for part in program.log_density_terms:
        result[part.name] = term_total(evaluation, part)
    return result


def log_density_of(
    part: Part, value: Labelled, named: dict[str, Labelled], evaluation: Evaluation
) -> Labelled:
    """Return the log density of a distribution at `value`, element by element."""
    m = evaluation.m
    family = family_of(part.family, part.arguments)
    ranked = any(parameter.rank for parameter in family.parameters)
    if part.event == "number" and not ranked:
        axes = union_axes([value, *named.values()])
    else:
        drawn = any(DRAW in item.axes for item in (value, *named.values()))
        axes = (*((DRAW,) if drawn else ()), *value.labels)
    arguments = spread_arguments(m, part, named, axes, evaluation.program)
    density = family.log_density(m, spread_over(value, axes), arguments)
    return Labelled(density, split_axes(part.event, axes)[0])


def log_likelihood(evaluation: Evaluation, part: Part) -> Labelled:
    """Return the log density of an outcome's rows, with a leading axis if there are draws."""
    axes = dict(evaluation.program.outcome_axes)[part.name]
    if part.name in evaluation.program.filled:
        observed = evaluation.column(part.name)
    else:
        observed = Labelled(evaluation.arguments["observed", part.name], axes)
    named = evaluation.parameters(part)
    return log_density_of(part, observed, named, evaluation)


def outcome_total(evaluation: Evaluation, part: Part) -> Array:
    """Return the log density of all rows of an outcome, gathered or one by one."""
    m, program, arguments = evaluation.m, evaluation.program, evaluation.arguments
    weights = dict(program.linear).get(part.name)
    if weights is not None:
        factor, rows = arguments[FACTOR, part.name], arguments[ROWS, part.name]
        return normal_total(evaluation, part, weights, factor, rows)
    along = _along(evaluation, part)
    if along is not None:
        seen = arguments["observed", part.name]
        return m.matern_log_density(m, seen, along)
    found = log_likelihood(evaluation, part)
    if found.axes[-1:] and found.axes[-1] in program.counted:
        found = _weighed(m, found, arguments[COUNTS, found.axes[-1]])
    if part.name in program.weighted:
        drawn = (DRAW,) if DRAW in found.axes else ()
        axes = (*drawn, *dict(program.outcome_axes)[part.name][: len(found.labels)])
        found = _weighed(
            m, Labelled(spread_over(found, axes), axes), arguments[WEIGHTS, part.name]
        )
    return _total(m, [found])


def _along(evaluation: Evaluation, part: Part) -> Along | None:
    """Return an outcome that is a process along one column and takes no matrix."""
    program = evaluation.program
    plain = part.name not in program.filled and part.name not in program.weighted
    if not plain or not hasattr(evaluation.m, "matern_log_density"):
        return None
    along = along_one_axis(evaluation, part)
    # Of many draws at once each has its own matrix.
    alone = along is not None and [each.ndim for each in along[1:]] == [1, 1, 1, 0, 0]
    return along if alone else None


def term_total(evaluation: Evaluation, part: Part) -> Array:
    """Return a term added to the log density, its values summed."""
    return _total(evaluation.m, [evaluation.expression(part.expression, part)])


def _weighed(m: Mathematics, found: Labelled, weights: Array) -> Labelled:
    """Return log densities times weights; what has the weight 0 may even be infinite."""
    values = m.where(weights > 0, weights * m.asarray(found.values), 0.0)
    return Labelled(values, found.axes)


def _total(m: Mathematics, parts: list[Labelled]) -> Array:
    total = 0.0
    for part in parts:
        over = tuple(at for at, axis in enumerate(part.axes) if axis != DRAW)
        total = total + m.sum(m.asarray(part.values), axis=over)
    return total
