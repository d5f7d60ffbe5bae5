"""Which numbers of a model cannot be negative, whatever the data say."""

from __future__ import annotations

import numpy as np

from millwright.distributions import on_numpy
from millwright.draws.labelled_draws import Draws
from millwright.modelling.labelled import DRAW
from millwright.modelling.shaping import spread_arguments
from millwright.modelling.space import bounds_of
from millwright.modelling.specification import Part

__all__ = ["never_negative"]


def never_negative(draws: Draws) -> set[str]:
    """Return the single numbers of unknowns whose support begins at zero or above."""
    found: set[str] = set()
    for part in draws.binding.program.unknowns:
        if part.name in draws.binding.axes and _from_zero(draws, part):
            found |= {part.name + cell for _, cell in draws.shown_cells(part.name)}
    return found


def _from_zero(draws: Draws, part: Part) -> bool:
    if part.family == "dirichlet":
        return True
    evaluation = draws.evaluation(keep=slice(0, 20))
    program = draws.binding.program
    with np.errstate(all="ignore"):
        named = evaluation.parameters(part)
        values = spread_arguments(on_numpy, part, named, (DRAW, *part.axes), program)
        lower, _ = bounds_of(part, values)
    return lower is not None and bool(np.all(np.asarray(lower) >= 0))
