"""Whether the numbers given to a fit make sense."""

from __future__ import annotations

from concurrent.futures import Executor
from typing import Any

import numpy as np

from millwright.errors import ArgumentError

__all__ = ["check_fit", "check_whole"]


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
