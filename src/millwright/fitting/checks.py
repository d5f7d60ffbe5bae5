"""Whether the numbers given to a fit make sense."""

from __future__ import annotations

from concurrent.futures import Executor
from typing import Any

import numpy as np

from millwright.errors import ArgumentError
from millwright.sampling.methods import Ensemble, Method, Rejection
from millwright.sampling.sampler import FitSettings

__all__ = ["check_fit", "check_whole", "how_much"]

_TRIAL = FitSettings(draws=200, warmup=300)
_DRAWS_OF_WALKERS = 20_000
_FEWEST_DRAWS_OF_A_WALKER = 400
"""With fewer, walkers that agree could not be told from walkers that do not."""


def check_whole(name: str, value: Any, least: int) -> None:
    if isinstance(value, bool) or not isinstance(value, (int, np.integer)) or value < least:
        raise ArgumentError(f"`{name}` must be a whole number from {least}, not {value!r}.")


def check_fit(
    chains: Any, draws: Any, warmup: Any, thin: Any, seed: Any, workers: Any, missing: Any
) -> None:
    """Refuse numbers that make no sense."""
    for name, value, least in (
        ("chains", chains, 1),
        ("draws", draws, 1),
        ("warmup", warmup, 0),
        ("thin", thin, 1),
        ("seed", seed, 0),
    ):
        if value is not None:
            check_whole(name, value, least)
    if workers is not None and not isinstance(workers, Executor):
        check_whole("workers", workers, 1)
    if missing not in ("refuse", "drop", "predict"):
        raise ArgumentError(f"`missing` must be 'refuse', 'drop' or 'predict', not {missing!r}.")


def how_much(
    draws: int | None, warmup: int | None, thin: int, trial: bool, method: Method, chains: int
) -> FitSettings:
    """Return how much to sample, with what suits the method where nothing is asked for."""
    usual = _TRIAL if trial else FitSettings()
    if isinstance(method, Rejection):
        # Independent draws need neither.
        warmup, thin = 0, 1
    if draws is None:
        draws = usual.draws
        if isinstance(method, Ensemble) and not trial:
            each = _DRAWS_OF_WALKERS // chains // 50 * 50
            draws = int(np.clip(each, _FEWEST_DRAWS_OF_A_WALKER, draws))
    return FitSettings(draws, usual.warmup if warmup is None else warmup, thin)
