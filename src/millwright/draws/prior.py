"""Draws of the unknowns from the prior."""

from __future__ import annotations

import numpy as np

from millwright.draws.labelled_draws import Draws
from millwright.errors import ModelError
from millwright.modelling.binding import Binding
from millwright.modelling.drawn_columns import resting_on
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.simulate import draw_unknowns
from millwright.modelling.specification import Specification
from millwright.wording import setting

__all__ = ["draws_in", "prior_draws", "refuse_improper", "refuse_terms"]


def prior_draws(binding: Binding, draws: int, generator: np.random.Generator) -> Draws:
    """Draw all unknowns from the prior.

    Raises
    ------
    ModelError
        If a prior is improper.
    """
    refuse_improper(binding, ())
    return draws_in(binding, draw_unknowns(binding, draws, generator))


def draws_in(binding: Binding, evaluation: Evaluation) -> Draws:
    """Return the unknowns of an evaluation over draws, as one chain.

    With them go derived quantities that rest on outcomes that were drawn too.
    """
    names = [part.name for part in binding.program.unknowns]
    names += resting_on(binding.program, evaluation.drawn)
    return Draws(
        binding, {name: np.asarray(evaluation.values[name].values)[None] for name in names}
    )


def refuse_improper(binding: Binding, given: tuple[str, ...]) -> None:
    """Refuse an improper prior, unless its unknown is given a value."""
    for part in binding.program.unknowns:
        if part.improper and part.name not in given:
            raise ModelError(
                f"The prior of `{part.name}` is flat and improper: nothing can be drawn from it. "
                f"Give it a value ({setting('given')}), or a proper prior."
            )


def refuse_terms(specification: Specification, given: tuple[str, ...]) -> None:
    """Refuse a model with terms in its log density, unless all its unknowns are given values."""
    free = [
        part.name
        for part in specification.parts
        if part.kind == "unknown" and part.name not in given
    ]
    if specification.log_density_terms and free:
        raise ModelError(
            "A model with terms added to the log density cannot be drawn from its prior: "
            f"give values for all unknowns ({', '.join(free)} are missing)."
        )
