"""What the likelihood says about each group, for the map of `hierarchy`."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import jax
import numpy as np

from millwright.distributions import on_jax
from millwright.distributions.mathematics import Array
from millwright.distributions.processes import Process
from millwright.modelling.arguments import family_of
from millwright.modelling.density import outcome_total, place_unknowns
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import Labelled
from millwright.modelling.parameterisations import informed_by_constants, on_log_scale
from millwright.modelling.program import Arguments, Program
from millwright.modelling.specification import Part

__all__ = ["GroupLikelihood", "information_about"]


@dataclass(frozen=True)
class GroupLikelihood:
    """To be compiled: `likelihood(position, arguments)` looks at each informed group prior.

    Gives for each name the values there (logarithms of lognormal ones), the gradient of the log
    likelihood, and the negative of its second derivative, each with the shape of the unknown.
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
                values: Array, name: str = name, item: Labelled = item, log: bool = log
            ) -> Array:
                values = on_jax.exp(values) if log else values
                known = {**unknowns, name: Labelled(values, item.axes)}
                again = Evaluation(on_jax, program, arguments, known)
                totals = [outcome_total(again, part) for part in program.outcomes]
                return sum(totals, start=on_jax.asarray(0.0))

            theta = on_jax.log(item.values) if log else item.values
            gradient, curvature = _curvature(program.by_name[name], total, theta)
            result[name] = (theta, gradient, -curvature)
        return result


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
        theta, gradient, curvature = (np.asarray(v, dtype=float) for v in numbers)
        if curvature.ndim > theta.ndim:
            result["information", name], result["pull", name] = _blocks(theta, gradient, curvature)
            continue
        sound = np.isfinite(theta) & np.isfinite(gradient) & np.isfinite(curvature)
        information = np.where(sound, np.maximum(curvature, 0.0), 0.0)
        result["information", name] = information
        result["pull", name] = np.where(sound, information * theta + gradient, 0.0)
    return result


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
