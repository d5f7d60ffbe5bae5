"""What the likelihood says about each group, for the map of `hierarchy`."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import jax
import numpy as np

from millwright.distributions import on_jax
from millwright.distributions.mathematics import Array
from millwright.modelling.density import log_likelihood, place_unknowns
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import Labelled
from millwright.modelling.program import Arguments, Program

__all__ = ["GroupLikelihood", "information_about"]


@dataclass(frozen=True)
class GroupLikelihood:
    """To be compiled: `likelihood(position, arguments)` looks at each informed group prior.

    Gives for each name the values there, the gradient of the log likelihood, and the negative
    of its second derivative, each with the shape of the unknown.
    """

    program: Program

    def __call__(self, position: Array, arguments: Arguments) -> dict[str, tuple[Array, ...]]:
        program = self.program
        evaluation, _ = place_unknowns(on_jax, program, arguments, position)
        unknowns = {part.name: evaluation.values[part.name] for part in program.unknowns}
        result: dict[str, tuple[Array, ...]] = {}
        for name, form in program.forms:
            if form != "informed":
                continue
            item = unknowns[name]

            def total(values: Array, name: str = name, item: Labelled = item) -> Array:
                known = {**unknowns, name: Labelled(values, item.axes)}
                again = Evaluation(on_jax, program, arguments, known)
                rows = [log_likelihood(again, part).values for part in program.outcomes]
                return sum((on_jax.sum(values) for values in rows), start=on_jax.asarray(0.0))

            # No row rests on two groups, so one product with ones gives the whole diagonal.
            ones = on_jax.asarray(np.ones(program.shape(item.axes)))
            gradient, curvature = jax.jvp(jax.grad(total), (item.values,), (ones,))
            result[name] = (item.values, gradient, -curvature)
        return result


def information_about(
    found: Mapping[str, tuple[Array, ...]],
) -> dict[tuple[str, ...], np.ndarray]:
    """Turn values, gradients and curvatures into the constants of the map."""
    result: dict[tuple[str, ...], np.ndarray] = {}
    for name, numbers in found.items():
        theta, gradient, curvature = (np.asarray(v, dtype=float) for v in numbers)
        sound = np.isfinite(theta) & np.isfinite(gradient) & np.isfinite(curvature)
        information = np.where(sound, np.maximum(curvature, 0.0), 0.0)
        result["information", name] = information
        result["pull", name] = np.where(sound, information * theta + gradient, 0.0)
    return result
