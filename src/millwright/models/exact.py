"""Independent draws of a posterior that is known in closed form, or by quadrature."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

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

__all__ = ["Drawn", "exact_posterior", "made_elsewhere"]

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
    settings = {"method": method, "chains": chains, "draws": draws, "warmup": 0, "thin": 1}
    return made_elsewhere(
        binding,
        values,
        origin=origin,
        seed=seed,
        settings={**settings, "missing": missing},
        began=began,
        sheet=sheet,
    )


def made_elsewhere(
    binding: Binding,
    values: Mapping[str, np.ndarray],
    *,
    origin: Origin,
    seed: int,
    settings: Mapping[str, Any],
    began: str,
    seconds: float = 0.0,
    sheet: str | None = None,
    chains: tuple[Mapping[str, Any], ...] = (),
    extended: bool = False,
) -> Posterior:
    """Return a posterior of draws that no sampler of models made.

    Parameters
    ----------
    values
        Draws of all unknowns by name, each of shape (chains, draws, labels...).
    settings
        How they were made: method, chains, draws, warm-up and thinning.
    began
        When, as ISO 8601.
    seconds
        How long it took.
    chains
        What is to be kept of each chain.
    extended
        Whether they went on after their planned end.
    """
    shape = settings["chains"], settings["draws"]
    statistics = {name: np.full(shape, np.nan) for name in STATISTICS}
    statistics["diverged"] = np.zeros(shape)
    record = Record(
        origin=origin,
        seed=seed,
        settings={"missing": "refuse", "trial": False, **settings},
        versions=versions(),
        fingerprint=binding.fingerprint,
        chains=chains or tuple({"steps": 0} for _ in range(shape[0])),
        extended=extended,
        seconds={"compiling": 0.0, "sampling": seconds},
        started=began,
        complete=True,
        dropped=dict(binding.dropped),
    )
    return Posterior(
        Fit(draws=Draws(binding, dict(values)), record=record, statistics=statistics, sheet=sheet)
    )
