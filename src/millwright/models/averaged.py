"""Draws over several models as a posterior, so that statements, decisions and files work."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from millwright.fitting.record import Origin
from millwright.models.exact import exact_posterior
from millwright.models.model import Model
from millwright.posterior.posterior import Posterior

__all__ = ["averaged_posterior"]


def averaged_posterior(
    title: str, notes: str, draws: Mapping[str, np.ndarray], method: str, seed: int
) -> Posterior:
    """Return draws that were taken over several models as one posterior.

    Parameters
    ----------
    title, notes
        What the draws are of.
    draws
        Independent draws by name, (chains, draws).
    method
        How they were drawn, in words.

    Returns
    -------
    The posterior. It is of no single model: what needs one, such as evidence, refuses.
    """
    model = Model(
        title=title,
        notes=notes,
        priors=dict.fromkeys(draws, "flat()"),
        likelihood={},
        log_density_terms={"unknown": f"0 * {next(iter(draws))}"},
    )
    chains, count = next(iter(draws.values())).shape
    return exact_posterior(
        model.bind(None),
        lambda generator, size: draws,
        method=method,
        chains=chains,
        draws=count,
        seed=seed,
        origin=Origin.AVERAGE,
    )
