"""What a stretch of sampling leaves: draws and the numbers that came with them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields

import numpy as np

__all__ = ["STATISTICS", "Piece", "joined", "path_of", "thinned_statistics"]

STATISTICS = (
    "log_density",
    "acceptance",
    "evaluations",
    "doublings",
    "diverged",
    "energy",
    "step_size",
)
"""What is recorded for each transition, in the order of the columns."""

_SUMMED = (STATISTICS.index("evaluations"), STATISTICS.index("diverged"))
_WIDEST_PATH = 200
_ACCEPTANCE = STATISTICS.index("acceptance")


@dataclass(frozen=True)
class Piece:
    """Consecutive draws of one chain.

    Attributes
    ----------
    positions
        Kept unconstrained draws, float64 of shape (draws, dimension).
    statistics, warmup
        Numbers of each kept draw and of each warm-up transition, columns as in `STATISTICS`.
    failures
        Where trajectories diverged after warm-up, shape (divergences, dimension).
    failed
        The draw (counted from 1) in which each did, shape (divergences,).
    path
        Unconstrained positions of the warm-up's transitions, shape (transitions, dimension);
        without rows for methods that do not keep them, and beyond 200 dimensions.
    """

    positions: np.ndarray
    statistics: np.ndarray
    warmup: np.ndarray
    failures: np.ndarray
    failed: np.ndarray
    path: np.ndarray

    @classmethod
    def empty(cls, dimension: int) -> Piece:
        """Return a piece without draws."""
        rows = np.zeros((0, len(STATISTICS)))
        nowhere = np.zeros((0, dimension))
        return cls(nowhere, rows, rows, nowhere, np.zeros(0), nowhere)


def path_of(positions: np.ndarray) -> np.ndarray:
    """Return the positions of a stretch of warm-up as far as they are kept."""
    return positions if positions.shape[1] <= _WIDEST_PATH else positions[:0]


def joined(pieces: Sequence[Piece]) -> Piece:
    """Return consecutive pieces, one or more, as one."""
    return Piece(
        *(np.concatenate([getattr(piece, f.name) for piece in pieces]) for f in fields(Piece))
    )


def thinned_statistics(statistics: np.ndarray, thin: int) -> np.ndarray:
    """Return one row for each `thin` transitions.

    Steps are summed, acceptance averaged, and a row diverged if one of its transitions did;
    the other numbers are those of the transition that is kept.
    """
    if thin == 1:
        return statistics
    groups = statistics.reshape(-1, thin, statistics.shape[1])
    rows = groups[:, -1].copy()
    rows[:, _SUMMED] = groups[:, :, _SUMMED].sum(axis=1)
    rows[:, _SUMMED[1]] = rows[:, _SUMMED[1]] > 0
    rows[:, _ACCEPTANCE] = groups[:, :, _ACCEPTANCE].mean(axis=1)
    return rows
