"""Where prior and data disagree.

After Evans and Moshonov (2006), "Checking for prior-data conflict", Bayesian Analysis 1(4), in a
simple form: the posterior of an unknown lies in the far tail of its prior.
"""

from __future__ import annotations

import numpy as np

from millwright.draws.labelled_draws import Draws
from millwright.draws.prior import prior_draws

__all__ = ["conflicts"]

_DRAWS = 4000
_TAIL = 0.001
_MOST = 4
_WIDEST = 2000


def conflicts(draws: Draws, generator: np.random.Generator) -> tuple[str, ...]:
    """Return a sentence for each number whose posterior median is beyond its prior's 99.8 %.

    Models with improper priors, with terms added to the log density, or with more than 2000
    unknown numbers, are not looked at.
    """
    program = draws.binding.program
    if draws.binding.dimension > _WIDEST or program.log_density_terms:
        return ()
    if any(part.improper for part in program.unknowns):
        return ()
    names = [part.name for part in program.unknowns]
    prior = prior_draws(draws.binding, _DRAWS, generator).single(names)
    found = []
    for name, value in draws.single(names).items():
        known = prior[name][np.isfinite(prior[name])]
        if not known.size:
            continue
        low, high = np.quantile(known, [_TAIL, 1 - _TAIL])
        middle = float(np.median(value))
        if not low <= middle <= high:
            found.append((name, middle, low, high))
    sentences = [
        f"Prior and data in CONFLICT about `{name}`: its posterior median is {middle:.3g}, though "
        f"its prior puts 99.8 % between {low:.3g} and {high:.3g}. Check the unit and the prior."
        for name, middle, low, high in found[:_MOST]
    ]
    if len(found) > _MOST:
        sentences.append(f"... and about {len(found) - _MOST} numbers more.")
    return tuple(sentences)
