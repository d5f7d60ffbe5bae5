"""What can still be read of a damaged run: the draws whose files are whole."""

from __future__ import annotations

import itertools
import json
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pyarrow as pa

from millwright.errors import StorageError
from millwright.modelling.labelled import base_axis
from millwright.storage.own_files import refuse_links
from millwright.storage.parts import flat_values, read_parquet

__all__ = ["Rescued", "rescued"]


@dataclass(frozen=True)
class Rescued:
    """Draws that could be read.

    Attributes
    ----------
    names
        One for each number, such as `stone_effect[Upper]`.
    values
        float64 of shape (chains, draws, numbers).
    lost
        What could not be read, in words.
    """

    names: tuple[str, ...]
    values: np.ndarray
    lost: tuple[str, ...]


def rescued(path: Path) -> Rescued:
    """Read the draws of a run from its files of draws alone.

    A chain ends where its first missing or unreadable file stood, since what follows would not
    be one stretch; chains are then cut to the length that keeps most draws.

    Raises
    ------
    StorageError
        If no file of draws can be read.
    """
    refuse_links(path)
    lost: list[str] = []
    chains: dict[int, np.ndarray] = {}
    names: tuple[str, ...] = ()
    for chain, files in itertools.groupby(sorted((path / "draws").glob("chain-*-*.parquet")), _of):
        tables = list(_leading(list(files), lost))
        if tables:
            names = tuple(_names(tables[0]))
            chains[chain] = np.concatenate([_numbers(table) for table in tables])
    known = {_of(file) for file in path.rglob("chain-*.parquet")}
    lost += [f"all draws of chain {chain}" for chain in sorted(known - set(chains))]
    if not chains:
        raise StorageError(f"No file of draws in {path / 'draws'} can be read.")
    length = _best_length([len(values) for values in chains.values()])
    for chain, values in chains.items():
        if len(values) < length:
            lost.append(f"chain {chain}, of which only {len(values)} draws are whole")
    kept = [values[:length] for _, values in sorted(chains.items()) if len(values) >= length]
    return Rescued(names, np.stack(kept), tuple(lost))


def _of(file: Path) -> int:
    """Return the chain that a file belongs to."""
    return int(file.stem.split("-")[1])


def _leading(files: list[Path], lost: list[str]) -> Iterator[pa.Table]:
    for number, file in enumerate(files, 1):
        try:
            if int(file.stem.split("-")[2]) != number:
                if number > 1:
                    lost.append(f"a file before {file.name}, and what follows it")
                return
            yield read_parquet(file)
        except StorageError:
            if number > 1:
                lost.append(f"{file.name}, and what follows it")
            return


def _names(table: pa.Table) -> Iterator[str]:
    meta = {key.decode(): json.loads(value) for key, value in table.schema.metadata.items()}
    for name in _columns(table):
        axes = [meta["labels"][base_axis(axis)] for axis in meta["axes"][name]]
        for labels in itertools.product(*axes):
            yield f"{name}[{', '.join(map(str, labels))}]" if labels else name


def _columns(table: pa.Table) -> list[str]:
    return [name for name in table.column_names if name not in ("chain", "iteration")]


def _numbers(table: pa.Table) -> np.ndarray:
    rows = table.num_rows
    return np.hstack([flat_values(table[name]).reshape(rows, -1) for name in _columns(table)])


def _best_length(lengths: list[int]) -> int:
    """Return the length that keeps most draws, if shorter chains are left out."""
    return max(lengths, key=lambda length: length * sum(other >= length for other in lengths))
