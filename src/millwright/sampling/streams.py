"""The streams of random numbers: everything that is drawn from a seed has a stream of its own.

Streams do not overlap, so that what one task draws never depends on another, and none on how
many numbers another took.
"""

from __future__ import annotations

from enum import IntEnum

import numpy as np

__all__ = ["Stream", "generator_of"]


class Stream(IntEnum):
    """What numbers are drawn for."""

    OPTIMISATION = 1
    PREDICTION = 2
    REPLICATION = 3
    PRIOR = 4
    SIMULATION = 5
    REJECTION = 6
    APPROXIMATION = 7
    LATENT = 8
    LEFT_OUT = 9
    CURVE = 10
    PEAKS = 11
    START = 12
    LANES = 13
    LENGTHS = 14
    DATA_SETS = 15
    RANKS = 16
    EVIDENCE = 17
    ODDS = 18
    WEIGHTS = 19
    FOLDS = 20
    EXACT = 21
    AVERAGE = 22
    TRIALS = 23
    BIAS = 24
    SUBSETS = 25
    SWEEPS = 26
    FORECAST = 27
    GRID = 28


def generator_of(seed: int, stream: Stream, *more: int) -> np.random.Generator:
    """Return the generator of a stream; `more` numbers tell several of one task apart."""
    return np.random.default_rng([seed, int(stream), *more])
