"""What a chain has given that does not fill a file of draws yet, and how long files are."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from millwright.sampling.piece import STATISTICS, Piece

__all__ = ["ChainBuffer", "rows_per_part"]


def rows_per_part(dimension: int) -> int:
    """Return how many draws fill a file, by memory: about 8 MB."""
    return int(np.clip(1_000_000 // max(dimension, 1), 8, 5000))


def _none(columns: int) -> np.ndarray:
    return np.zeros((0, columns))


@dataclass
class ChainBuffer:
    """Draws of a chain that do not fill a file yet, with its warm-up and divergences.

    Attributes
    ----------
    full
        How many files the draws before these fill.
    positions, rows
        Unconstrained draws and statistics after them.
    warmup
        Statistics of the warm-up.
    failures, failed
        Where and in which draws trajectories diverged.
    path
        Unconstrained positions of the warm-up, as far as they are kept.
    """

    dimension: int
    full: int = 0
    positions: np.ndarray = field(default_factory=lambda: _none(0))
    rows: np.ndarray = field(default_factory=lambda: _none(len(STATISTICS)))
    warmup: np.ndarray = field(default_factory=lambda: _none(len(STATISTICS)))
    failures: np.ndarray = field(default_factory=lambda: _none(0))
    failed: np.ndarray = field(default_factory=lambda: np.zeros(0))
    path: np.ndarray = field(default_factory=lambda: _none(0))
    warmup_written: int = -1

    def __post_init__(self) -> None:
        if not self.positions.size:
            self.positions = _none(self.dimension)
        if not self.failures.size:
            self.failures = _none(self.dimension)
        if not self.path.size:
            self.path = _none(self.dimension)

    def add(self, piece: Piece) -> None:
        """Take consecutive draws."""
        self.positions = np.concatenate([self.positions, piece.positions])
        self.rows = np.concatenate([self.rows, piece.statistics])
        self.warmup = np.concatenate([self.warmup, piece.warmup])
        self.failures = np.concatenate([self.failures, piece.failures])
        self.failed = np.concatenate([self.failed, piece.failed])
        self.path = np.concatenate([self.path, piece.path])

    def drop_full(self, more: int, length: int) -> None:
        """Count `more` files of `length` draws as full, and leave their draws out."""
        self.full += more
        self.positions = self.positions[more * length :]
        self.rows = self.rows[more * length :]
