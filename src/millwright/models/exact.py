"""Independent draws of a posterior that is known in closed form, or by quadrature."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np

from millwright.checks import check_whole
from millwright.draws.labelled_draws import Draws
from millwright.fitting.fit import Fit
from millwright.fitting.record import Origin, Record
from millwright.fitting.versions import now, versions
from millwright.modelling.binding import Binding
from millwright.posterior.posterior import Posterior
from millwright.sampling.piece import STATISTICS
from millwright.sampling.streams import Stream, generator_of

__all__ = ["Drawn", "exact_posterior"]

Drawn = Callable[[np.random.Generator, int], Mapping[str, np.ndarray]]
"""Draws of all unknowns by name, each of shape (draws, labels...), from a generator."""


def exact_posterior(
    binding: Binding,
    drawn: Drawn,
    *,
    method: str,
    chains: int = 4,
    draws: int = 1000,
    seed: int = 0,
    missing: str = "refuse",
    sheet: str | None = None,
    origin: Origin = Origin.EXACT,
) -> Posterior:
    """Return a posterior of independent draws.

    Parameters
    ----------
    binding
        The model bound to its data.
    drawn
        Draws all unknowns.
    method
        How they are drawn, in words.
    chains, draws
        The draws are dealt to so many chains of so many, as all posteriors have them.
    seed
        Any whole number from 0.
    missing
        What was done with rows whose outcome was missing.
    sheet
        Text of the sheet that the model was read from.
    origin
        `AVERAGE` for draws over several models.

    Returns
    -------
    The posterior; its verdict says that the draws are exact.

    Raises
    ------
    ArgumentError
        For numbers of draws that make no sense.
    """
    check_whole("chains", chains, 1)
    check_whole("draws", draws, 1)
    check_whole("seed", seed, 0)
    began = now()
    found = drawn(generator_of(seed, Stream.EXACT), chains * draws)
    values = {
        part.name: np.asarray(found[part.name], dtype=float).reshape(
            chains, draws, *binding.program.shape(part.axes)
        )
        for part in binding.program.unknowns
    }
    statistics = {name: np.full((chains, draws), np.nan) for name in STATISTICS}
    statistics["diverged"] = np.zeros((chains, draws))
    record = Record(
        origin=origin,
        seed=seed,
        settings={
            "method": method,
            "chains": chains,
            "draws": draws,
            "warmup": 0,
            "thin": 1,
            "missing": missing,
            "trial": False,
        },
        versions=versions(),
        fingerprint=binding.fingerprint,
        chains=tuple({"steps": 0} for _ in range(chains)),
        seconds={"compiling": 0.0, "sampling": 0.0},
        started=began,
        complete=True,
        dropped=dict(binding.dropped),
    )
    return Posterior(
        Fit(draws=Draws(binding, values), record=record, statistics=statistics, sheet=sheet)
    )
