"""Where each observation falls in its prediction from all other rows.

Gelfand, Dey and Chang (1992), "Model determination using predictive distributions", in Bayesian
Statistics 4; the rows left out are weighed as in leave-one-out cross-validation.
"""

from __future__ import annotations

import numpy as np

from millwright.accuracy.pointwise import row_blocks
from millwright.diagnostics.smoothing import smoothed_log_weights
from millwright.draws.conditioning import joint_outcomes
from millwright.draws.labelled_draws import Draws
from millwright.errors import ModelError
from millwright.modelling.missing import without_gaps
from millwright.modelling.simulate import draw_outcomes

__all__ = ["leave_one_out_pit"]


def leave_one_out_pit(
    draws: Draws, generator: np.random.Generator, ties: str = "half"
) -> tuple[tuple[tuple[str, int], ...], np.ndarray]:
    """Return outcome and row, and the share of its left-out prediction below each observation.

    For a model that fits, the shares spread evenly over 0 to 1. Ties count half; or with
    `ties="random"` a random share of them, the same for all draws of a row, which spreads the
    shares of counts evenly too (Dunn and Smyth 1996, "Randomized quantile residuals").

    Raises
    ------
    ModelError
        For outcomes that are labels or vectors, or whose rows depend on each other.
    """
    program = draws.binding.program
    odd = [p.name for p in program.outcomes if p.event != "number"] + [
        p.name for p in joint_outcomes(draws.binding)
    ]
    if odd:
        raise ModelError(
            f"The rows of `{odd[0]}` are not single numbers that stand for themselves, so there "
            "is no share below; see predictive_check()."
        )
    size = int(np.prod(draws.shape))
    copies = draw_outcomes(draws.binding, size, generator, draws.evaluation())
    columns = []
    for part in program.outcomes:
        seen = np.asarray(draws.binding.arguments["observed", part.name])
        again = copies[part.name]
        if part.name in program.filled:
            gaps = draws.binding.arguments["gaps", part.name]
            seen, again = without_gaps(seen, gaps), without_gaps(again, gaps)
        # A vector has an entry for each of its labels, row after row.
        share = generator.random(seen.shape) if ties == "random" else 0.5
        columns.append(((again < seen) + share * (again == seen)).reshape(len(again), -1))
    below = np.concatenate(columns, axis=1)
    rows: list[tuple[str, int]] = []
    found = np.empty(below.shape[1])
    for some, log_lik in row_blocks(draws):
        for at in range(len(some)):
            log_weights, _ = smoothed_log_weights(-log_lik[:, at])
            found[len(rows) + at] = np.exp(log_weights) @ below[:, len(rows) + at]
        rows += some
    return tuple(rows), found
