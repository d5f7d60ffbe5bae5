"""From a bound model to what a sampler sees, and to what it leaves behind."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.gaussian import covariance_of
from millwright.draws.labelled_draws import Draws, thinned
from millwright.errors import ArgumentError, ModelError
from millwright.fitting.plain_density import own_density
from millwright.modelling.binding import Binding
from millwright.modelling.density import (
    LogDensity,
    SplitLogDensity,
    place_unknowns,
    terms,
)
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.gathering import gathered
from millwright.modelling.hierarchy import chosen_forms, no_information
from millwright.modelling.labelled import DRAW, Labelled, spread_over, twin
from millwright.modelling.shaping import spread_arguments
from millwright.modelling.simulate import draw_unknowns, positions_from
from millwright.modelling.space import places
from millwright.sampling.compiling import compiled, on_device
from millwright.sampling.methods import (
    METHODS,
    Ensemble,
    Method,
    NoUTurn,
    RandomWalk,
    Rejection,
    Tempering,
    method_with,
)
from millwright.sampling.mode import climb
from millwright.sampling.target import Target
from millwright.wording import setting

__all__ = [
    "chosen_method",
    "group_record",
    "prepared",
    "refuse_black_boxes",
    "target_of",
]

_OVER_DISPERSED = 1.5


def target_of(binding: Binding, jacobian: bool = True, prior: bool = True) -> Target:
    """Return what a sampler or an optimiser sees of a bound model."""
    binding = gathered(binding).binding
    values = _Values(binding, jacobian, prior)
    black_box = bool(binding.program.black_boxes)
    flat = any(part.improper for part in binding.program.unknowns)
    return Target(
        binding.dimension,
        LogDensity(binding.program, jacobian, prior),
        binding.arguments,
        lambda generator, n: _starts(binding, generator, n),
        lambda positions: _not_finite(binding, positions),
        values.total,
        values,
        None if flat else lambda generator, n: _prior_draws(binding, generator, n),
        traceable=not black_box,
        split_density=values.split,
    )


def _prior_draws(binding: Binding, generator: np.random.Generator, n: int) -> np.ndarray:
    return positions_from(binding, draw_unknowns(binding, n, generator))


def _starts(binding: Binding, generator: np.random.Generator, n: int) -> np.ndarray:
    positions = _prior_draws(binding, generator, n)
    for place in places(binding.program):
        if place.name in binding.program.mapped:
            # In standard coordinates the posterior is about standard normal.
            wide = _OVER_DISPERSED * generator.standard_normal((n, place.size))
            positions[:, place.start : place.stop] = wide
    return positions


class _Values:
    """Log prior and log likelihood at several positions; compiled unless there is a black box."""

    def __init__(self, binding: Binding, jacobian: bool, prior: bool) -> None:
        self.binding = binding
        self.split = SplitLogDensity(binding.program, jacobian, prior)
        self.kept: dict[tuple[int, ...], Any] = {}
        self.on_device: Any = None
        boxes = jacobian and prior and bool(binding.program.black_boxes)
        self.short = own_density(binding) if boxes else None

    def total(self, positions: np.ndarray) -> np.ndarray:
        """Return the log density at each position."""
        prior, likelihood = self(positions)
        return prior + likelihood

    def __call__(self, positions: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        arguments = self.binding.arguments
        if not self.binding.program.black_boxes:
            if positions.shape not in self.kept:
                self.on_device = on_device(arguments)
                found = compiled(_at_each, self.split, (positions, self.on_device))
                self.kept[positions.shape] = found
            prior, likelihood = self.kept[positions.shape](positions, self.on_device)
            return np.asarray(prior), np.asarray(likelihood)
        if self.short is not None:
            return self.short(positions)
        with np.errstate(all="ignore"):
            parts = self.split.parts(on_numpy, positions, arguments)
        prior, likelihood = (np.broadcast_to(part, len(positions)) for part in parts)
        return np.asarray(prior, dtype=float), np.asarray(likelihood, dtype=float)


def _at_each(split: SplitLogDensity, positions: Any, arguments: Any) -> Any:
    """Return log prior and log likelihood at each of several positions; to be compiled."""
    import jax

    return jax.vmap(lambda q: split(q, arguments))(positions)


def _not_finite(binding: Binding, positions: np.ndarray) -> str:
    """Name the definitions whose density is not finite, and values tried."""
    with np.errstate(all="ignore"):
        found = terms(on_numpy, binding.program, binding.arguments, positions)
        evaluation, _ = place_unknowns(on_numpy, binding.program, binding.arguments, positions)
    shares = {name: float(np.mean(~np.isfinite(value))) for name, value in found.items()}
    bad = [name for name, share in shares.items() if share == max(shares.values()) > 0]
    if not bad:
        return "The density is finite there, but its gradient is not."
    definition = binding.specification.part(bad[0]).definition
    tried = _tried(binding, evaluation)
    matrix = _matrix_at_fault(binding, evaluation, bad[0])
    if matrix:
        return f"Not finite: `{bad[0]}`, defined as {definition.text}. Tried {tried}. {matrix}"
    return (
        f"Not finite: `{bad[0]}`, defined as {definition.text}. Tried, for instance, {tried}. "
        "Check that its arguments stay in their ranges (scales above zero, probabilities "
        "between 0 and 1) for values that the priors allow."
    )


def _matrix_at_fault(binding: Binding, evaluation: Evaluation, name: str) -> str:
    """Say whether a matrix in the arguments of a definition is not positive definite."""
    part = next(part for part in binding.program.parts if part.name == name)
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


def chosen_method(wanted: str | Method | None, binding: Binding, standard: NoUTurn) -> Method:
    """Choose how to sample; refuse a method that needs the gradient of a black box.

    Parameters
    ----------
    wanted
        A method, or its name for its usual choices; None for what suits the model.
    standard
        The gradient sampler with the choices of this fit.

    Raises
    ------
    ArgumentError
        For an unknown method, or one that cannot sample this model.
    """
    boxes = binding.program.black_boxes
    method: Any = wanted
    if wanted is None:
        method = RandomWalk() if boxes else standard
    elif isinstance(wanted, str):
        method = standard if wanted == NoUTurn.name else method_with(wanted, {})
    if not isinstance(method, (NoUTurn, RandomWalk, Ensemble, Tempering, Rejection)):
        raise ArgumentError(
            f"`method` must be a name ({', '.join(METHODS)}) or such as mw.RandomWalk(), "
            f"not {method!r}."
        )
    if standard != NoUTurn() and method is not standard:
        raise ArgumentError(
            "`target_acceptance`, `max_depth` and `metric` are of the no-U-turn sampler: leave "
            f"them out with {method.words}, which has choices of its own."
        )
    if isinstance(method, NoUTurn) and boxes:
        raise ArgumentError(
            f"The no-U-turn sampler needs a gradient, which the black box `{boxes[0]}` does not "
            f"have: use {setting('method', 'random_walk')} or {setting('method', 'ensemble')}, or "
            "register the function written "
            "with jax.numpy."
        )
    return method


def refuse_black_boxes(binding: Binding) -> None:
    """Refuse what needs a gradient.

    Raises
    ------
    ModelError
        If the model calls a black box.
    """
    if binding.program.black_boxes:
        raise ModelError(
            "A normal approximation comes from the gradient, which the black box "
            f"`{binding.program.black_boxes[0]}` does not have. Use fit(); mode() gives a point "
            "with its curvature."
        )


def prepared(binding: Binding, group_form: str | Mapping[str, str], seed: int) -> Binding:
    """Choose the coordinates of group effects.

    For informed ones, the constants of the map come from the curvature of the likelihood at the
    highest point of the posterior in non-centred coordinates.

    Raises
    ------
    ArgumentError
        For an unknown form or name.
    """
    forms = chosen_forms(binding.program, group_form)
    if not forms:
        return binding
    program = replace(binding.program, forms=forms)
    arguments = {**binding.arguments, **no_information(program)}
    blank = replace(binding, program=program, arguments=arguments)
    if program.black_boxes or all(form != "informed" for _, form in forms):
        # Without a gradient there is no pilot: no information leaves the non-centred form.
        return blank
    # Written in JAX, which takes a second to load: results are read without it.
    from millwright.modelling.information import GroupLikelihood, information_about

    pilot = climb(target_of(blank), seed, starts=2, most=300).position
    likelihood = compiled(_group_likelihood, GroupLikelihood(program), (pilot, arguments))
    found = information_about(likelihood(pilot, arguments))
    return replace(blank, arguments={**arguments, **found})


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
    evaluation = draws.evaluation(keep=thinned(draws, 500))
    result: dict[str, Any] = {}
    for name, form in binding.program.forms:
        result[name] = {"form": form}
        if form == "informed":
            named = evaluation.parameters(binding.program.by_name[name])
            share = _share_from_own_data(binding, name, named)
            result[name] |= {"share_from_own_data": [float(share.min()), float(share.max())]}
    return result


def _share_from_own_data(binding: Binding, name: str, named: Mapping[str, Labelled]) -> np.ndarray:
    information = binding.arguments["information", name]
    part = binding.program.by_name[name]
    if part.event == "number":
        # A scale need not be unknown: it may be a constant, or have one value for each label.
        scale = np.asarray(spread_over(named["scale"], (DRAW, *part.per)), dtype=float)
        strength = information * (np.median(scale, axis=0) if scale.ndim else scale) ** 2
        return np.asarray(strength / (1 + strength))
    # The shares of a few draws, averaged: a matrix of medians need not be a covariance.
    some = {
        key: Labelled(item.values[::25], item.axes) if DRAW in item.axes else item
        for key, item in named.items()
    }
    axes = (DRAW, *part.axes)
    program = binding.program
    values = spread_arguments(on_numpy, part, some, axes, program)
    root = on_numpy.cholesky(np.asarray(covariance_of(values)))
    strength = np.linalg.eigvalsh(np.swapaxes(root, -1, -2) @ information @ root)
    return np.asarray(np.mean(strength / (1 + strength), axis=0))
