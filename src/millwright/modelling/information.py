"""What the likelihood says about each group, for the map of `hierarchy`."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from types import MappingProxyType

import jax
import numpy as np

from millwright.distributions import on_jax
from millwright.distributions.mathematics import Array
from millwright.distributions.processes import Process
from millwright.modelling.arguments import family_of
from millwright.modelling.companions import companion_values, companions
from millwright.modelling.density import outcome_total, place_unknowns
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import Labelled
from millwright.modelling.parameterisations import informed_by_constants, on_log_scale
from millwright.modelling.program import Arguments, Program
from millwright.modelling.specification import Part

__all__ = ["GroupLikelihood", "information_about"]

_NOTHING: Mapping[str, Labelled] = MappingProxyType({})


@dataclass(frozen=True)
class GroupLikelihood:
    """To be compiled: `likelihood(position, arguments)` looks at each informed group prior.

    Gives for each name the values there (logarithms of lognormal ones), the gradient of the log
    likelihood, and the negative of its second derivative, each with the shape of the unknown;
    then, where it has companions, their values and the negative mixed second derivatives, shape
    (*shape of the unknown, values).
    """

    program: Program

    def __call__(self, position: Array, arguments: Arguments) -> dict[str, tuple[Array, ...]]:
        program = self.program
        evaluation, _ = place_unknowns(on_jax, program, arguments, position)
        unknowns = {part.name: evaluation.values[part.name] for part in program.unknowns}
        result: dict[str, tuple[Array, ...]] = {}
        for name in informed_by_constants(program):
            item, log = unknowns[name], on_log_scale(program.by_name[name])

            def total(
                values: Array,
                beside: Mapping[str, Labelled] = _NOTHING,
                name: str = name,
                item: Labelled = item,
                log: bool = log,
            ) -> Array:
                values = on_jax.exp(values) if log else values
                known = {**unknowns, **beside, name: Labelled(values, item.axes)}
                again = Evaluation(on_jax, program, arguments, known)
                totals = [outcome_total(again, part) for part in program.outcomes]
                return sum(totals, start=on_jax.asarray(0.0))

            theta = on_jax.log(item.values) if log else item.values
            gradient, curvature = _curvature(program.by_name[name], total, theta)
            result[name] = (theta, gradient, -curvature)
            if names := companions(program, name):
                flat = companion_values(evaluation, names)
                mixed = _mixed(total, theta, {n: unknowns[n] for n in names}, flat)
                result[name] += (flat, mixed)
        return result


def _mixed(
    total: Callable[..., Array], theta: Array, beside: Mapping[str, Labelled], flat: Array
) -> Array:
    """Return the negative mixed derivatives in theta and in companions, whose values are flat."""
    ends = np.cumsum([int(np.prod(item.values.shape)) for item in beside.values()])

    def slope(values: Array) -> Array:
        known = {}
        for (name, item), end in zip(beside.items(), ends, strict=True):
            shape = item.values.shape
            piece = values[end - int(np.prod(shape)) : end]
            known[name] = Labelled(piece.reshape(shape), item.axes)
        return jax.grad(total)(theta, known)

    return -jax.jacfwd(slope)(flat)


def _curvature(part: Part, total: Callable[[Array], Array], values: Array) -> tuple[Array, Array]:
    """Return the gradient and the second derivatives within each group.

    No row rests on two groups, nor on two places of a process, so one product with ones gives
    all of a diagonal, and as many as a vector has entries give all blocks.
    """
    slope = jax.grad(total)
    if part.event == "number" or isinstance(family_of(part.family, part.arguments), Process):
        gradient, diagonal = jax.jvp(slope, (values,), (on_jax.ones_like(values),))
        return gradient, diagonal
    size = values.shape[-1]
    products = [
        jax.jvp(slope, (values,), (on_jax.broadcast_to(unit, values.shape),))
        for unit in on_jax.eye(size)
    ]
    return products[0][0], on_jax.stack([block for _, block in products], axis=-1)


def information_about(
    found: Mapping[str, tuple[Array, ...]],
) -> dict[tuple[str, ...], np.ndarray]:
    """Turn values, gradients and curvatures into the constants of the map."""
    result: dict[tuple[str, ...], np.ndarray] = {}
    for name, numbers in found.items():
        theta, gradient, curvature, *beside = (np.asarray(v, dtype=float) for v in numbers)
        if curvature.ndim > theta.ndim:
            information, pull = _blocks(theta, gradient, curvature)
            told = np.trace(information, axis1=-2, axis2=-1)[..., None] > 0.0
            result["information", name], result["pull", name] = information, pull
            _follow(result, name, told & np.ones_like(theta, dtype=bool), beside)
            continue
        sound = np.isfinite(theta) & np.isfinite(gradient) & np.isfinite(curvature)
        information = np.where(sound, np.maximum(curvature, 0.0), 0.0)
        result["information", name] = information
        result["pull", name] = np.where(sound, information * theta + gradient, 0.0)
        _follow(result, name, information > 0.0, beside)
    return result


def _follow(
    result: dict[tuple[str, ...], np.ndarray],
    name: str,
    told: np.ndarray,
    beside: Sequence[np.ndarray],
) -> None:
    """Let the pull follow companions wherever the data say something of the group."""
    if not beside:
        return
    values, mixed = beside
    sound = told & np.isfinite(mixed).all(axis=-1)
    mixed = np.where(sound[..., None], mixed, 0.0)
    result["mixed", name] = mixed
    result["pull", name] = result["pull", name] + mixed @ values


def _blocks(
    theta: np.ndarray, gradient: np.ndarray, curvature: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Return information (..., K, K), made positive semidefinite, and pull (..., K)."""
    sound = np.isfinite(curvature).all(axis=(-1, -2)) & np.isfinite(gradient).all(axis=-1)
    block = np.where(sound[..., None, None], curvature, 0.0)
    values, vectors = np.linalg.eigh(0.5 * (block + np.swapaxes(block, -1, -2)))
    information = (vectors * np.maximum(values, 0.0)[..., None, :]) @ np.swapaxes(vectors, -1, -2)
    pull = (information @ theta[..., None])[..., 0] + gradient
    return information, np.where(sound[..., None], pull, 0.0)
