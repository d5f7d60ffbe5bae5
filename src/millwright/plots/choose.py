"""Which quantities a figure shows."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from millwright.draws.expressions import chosen_numbers
from millwright.errors import ArgumentError
from millwright.posterior import Posterior

__all__ = ["chosen"]


def chosen(
    posterior: Posterior, names: str | Sequence[str] | None, most: int
) -> dict[str, np.ndarray]:
    """Return draws of each single number to show, shape (chains, draws).

    Raises
    ------
    ArgumentError
        If there are more than fit into one figure, or the argument is not a posterior.
    """
    if not isinstance(posterior, Posterior):
        raise ArgumentError(f"A posterior is needed here, not {type(posterior).__name__}.")
    single = chosen_numbers(posterior.draws, names)
    if len(single) > most:
        raise ArgumentError(
            f"{len(single)} quantities do not fit into one figure; at most {most} do. Choose "
            f"some by name: {', '.join(posterior.draws.names()[:6])}, ..."
        )
    return single
