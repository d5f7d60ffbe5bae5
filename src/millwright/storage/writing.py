"""Writing a run while it is sampled, so that it can go on after a crash at any moment.

Each unit of work has a file in `state/` that says how far it is; writing that file is what
commits the draws before it. The last part of a chain is written anew until it is full, and parts
are full at the same draws in every run, so that a run that was cut off and went on holds the
same files as one that was not.
"""

from __future__ import annotations

import contextlib
import io
import json
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from filelock import FileLock

from millwright.errors import StorageError
from millwright.sampling.chain_buffer import ChainBuffer, rows_per_part
from millwright.sampling.piece import STATISTICS, Piece
from millwright.sampling.sampler import chains_of
from millwright.sampling.state import UnitState, packed
from millwright.storage.own_files import write_whole
from millwright.storage.parts import part_name, write_part
from millwright.wording import action

__all__ = ["RunWriter", "Values"]

Values = Callable[[np.ndarray], Mapping[str, np.ndarray]]

_SECONDS_BETWEEN_COMMITS = 2.0
_SHARE_OF_TIME = 0.05


class RunWriter:
    """A run folder that is being written; it is locked until `close`.

    Parameters
    ----------
    values
        Maps unconstrained draws of shape (rows, dimension) to each unknown's values.
    meta
        Labels and axes, stored with every part.
    report
        What each chain of a unit settled on.
    chains
        Files of each chain so far, where a run goes on.
    lock
        The lock on the folder.
    """

    def __init__(
        self,
        path: Path,
        dimension: int,
        values: Values,
        meta: Mapping[str, Any],
        report: Callable[[Any], Sequence[Mapping[str, Any]]],
        chains: Mapping[int, ChainBuffer],
        lock: FileLock,
    ) -> None:
        self.path = path
        self.lock = lock
        self.dimension = dimension
        self.length = rows_per_part(dimension)
        self.values = values
        self.meta = meta
        self.report = report
        self.chains = dict(chains)
        self.states: dict[int, UnitState] = {}
        self.due: dict[int, float] = {}

    def receive(self, state: UnitState, pieces: tuple[Piece, ...]) -> None:
        """Take the new state of a unit and a piece of each of its chains.

        Raises
        ------
        StorageError
            If the disk cannot be written; what was committed before stays good.
        """
        self.states[state.unit] = state
        for chain, piece in zip(chains_of(state.unit, len(pieces)), pieces, strict=True):
            files = self.chains.setdefault(chain, ChainBuffer(self.dimension))
            files.add(piece)
            with self._guarded():
                self._write_full_parts(chain)
        if time.monotonic() >= self.due.get(state.unit, 0.0):
            self.commit(state.unit)

    def commit(self, unit: int) -> None:
        """Write what a unit has done so far."""
        began = time.monotonic()
        with self._guarded():
            self._commit(unit)
        spent = time.monotonic() - began
        wait = max(_SECONDS_BETWEEN_COMMITS, spent / _SHARE_OF_TIME)
        self.due[unit] = time.monotonic() + wait

    def commit_all(self) -> None:
        """Write what all units have done so far."""
        for unit in self.states:
            self.commit(unit)

    def write_values(
        self, values: Mapping[str, np.ndarray], statistics: Mapping[str, np.ndarray]
    ) -> None:
        """Write draws that are in memory, arrays of shape (chains, draws, ...), as parts."""
        chains, draws = next(iter(values.values())).shape[:2]
        for chain in range(chains):
            for number, first in enumerate(range(0, draws, self.length), start=1):
                rows = slice(first, first + self.length)
                name, one = part_name(chain, number), first + 1
                parts = {key: value[chain, rows] for key, value in values.items()}
                numbers = {key: value[chain, rows] for key, value in statistics.items()}
                with self._guarded():
                    write_part(self.path / "draws" / name, chain, one, parts, self.meta)
                    write_part(self.path / "statistics" / name, chain, one, numbers)

    def finish(self, record: Mapping[str, Any]) -> None:
        """Commit everything and write the run's record."""
        self.commit_all()
        with self._guarded():
            write_json(self.path / "run.json", record)

    def close(self) -> None:
        """Let go of the folder."""
        self.lock.release()

    @contextlib.contextmanager
    def _guarded(self) -> Iterator[None]:
        try:
            yield
        except OSError as error:
            if isinstance(error, StorageError):
                raise
            raise StorageError(
                f"The run cannot be written to {self.path}: {error.strerror or error}. What was "
                "stored before is whole: make room, then "
                f"{action('resume', str(self.path))} goes on."
            ) from error

    def _write_full_parts(self, chain: int) -> None:
        files = self.chains[chain]
        while len(files.positions) >= self.length:
            self._write(chain, files.positions[: self.length], files.rows[: self.length])
            files.full += 1
            files.positions = files.positions[self.length :]
            files.rows = files.rows[self.length :]

    def _write(self, chain: int, positions: np.ndarray, rows: np.ndarray) -> None:
        files = self.chains[chain]
        name, first = part_name(chain, files.full + 1), files.full * self.length + 1
        write_part(self.path / "draws" / name, chain, first, self.values(positions), self.meta)
        write_part(self.path / "statistics" / name, chain, first, _named(rows))

    def _commit(self, unit: int) -> None:
        state = self.states[unit]
        reports = [dict(report) for report in self.report(state)]
        chains = chains_of(unit, len(reports))
        for chain in chains:
            self._commit_rows(chain)
        numbers, arrays = packed(state)
        stored = {f"state/{name}": value for name, value in arrays.items()}
        for chain in chains:
            files = self.chains[chain]
            for name in ("positions", "rows", "failures", "failed"):
                stored[f"{chain}/{name}"] = getattr(files, name)
        header = {
            "kind": type(state).__name__,
            "numbers": numbers,
            "chains": {str(chain): self.chains[chain].full for chain in chains},
            "reports": reports,
        }
        write_state(self.path / "state" / f"unit-{unit + 1:02d}.npz", header, stored)

    def _commit_rows(self, chain: int) -> None:
        """Write the part that is not full, and the warm-up if there is more of it."""
        files = self.chains[chain]
        if len(files.positions):
            self._write(chain, files.positions, files.rows)
        if len(files.warmup) != files.warmup_written:
            path = self.path / "warmup" / f"chain-{chain + 1:02d}.parquet"
            where = {"position": files.path} if len(files.path) == len(files.warmup) else {}
            write_part(path, chain, 1, _named(files.warmup) | where)
            files.warmup_written = len(files.warmup)


def _named(rows: np.ndarray) -> dict[str, np.ndarray]:
    return {name: rows[:, at] for at, name in enumerate(STATISTICS)}


def write_json(path: Path, content: Mapping[str, Any]) -> None:
    """Write a JSON file, whole or not at all."""
    text = json.dumps(content, indent=2).encode()
    write_whole(path, lambda file: file.write(text))


def write_state(path: Path, header: Mapping[str, Any], arrays: Mapping[str, np.ndarray]) -> None:
    """Write a state file: arrays, and the rest as JSON text in the array `header`."""
    stored: dict[str, Any] = {"header": np.array(json.dumps(header)), **arrays}
    # Archives are written back and forth, which not every kind of file allows.
    content = io.BytesIO()
    np.savez(content, **stored)
    write_whole(path, lambda file: file.write(content.getvalue()))
