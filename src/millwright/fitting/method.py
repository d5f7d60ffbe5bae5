"""Which method samples a model."""

from __future__ import annotations

from typing import Any, cast, get_args

from millwright.errors import ArgumentError, ModelError
from millwright.modelling.binding import Binding
from millwright.sampling.methods import (
    METHODS,
    FixedLength,
    LaplaceGrid,
    Method,
    NoUTurn,
    RandomWalk,
    method_with,
)
from millwright.wording import setting

__all__ = ["chosen_method", "refuse_black_boxes"]

_NEEDS_GRADIENT = {
    NoUTurn.name: "The no-U-turn sampler",
    FixedLength.name: "The Hamiltonian sampler",
    LaplaceGrid.name: "Laplace's approximation",
}


def chosen_method(wanted: str | Method | None, binding: Binding, standard: NoUTurn) -> Method:
    """Choose how to sample; refuse a method that needs the gradient of a black box.

    Parameters
    ----------
    wanted
        A method, or its name for its usual settings; None for what suits the model.
    standard
        The gradient sampler with the settings of this fit.

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
    if not isinstance(method, get_args(Method)):
        raise ArgumentError(
            f"`method` must be a name ({', '.join(METHODS)}) or such as mw.RandomWalk(), "
            f"not {method!r}."
        )
    method = cast("Method", method)
    if standard != NoUTurn() and method is not standard:
        raise ArgumentError(
            "`target_acceptance`, `max_depth` and `metric` are of the no-U-turn sampler: leave "
            f"them out with {method.words}, which has settings of its own."
        )
    if isinstance(method, (NoUTurn, FixedLength, LaplaceGrid)) and boxes:
        raise ArgumentError(
            f"{_NEEDS_GRADIENT[method.name]} needs a gradient, which the black box `{boxes[0]}` "
            f"does not have: use {setting('method', 'random_walk')} or "
            f"{setting('method', 'ensemble')}, or register the function written with jax.numpy."
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
