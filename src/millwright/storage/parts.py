"""Parquet parts of a run: written aside, flushed and renamed; read by column."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from millwright.draws.columns import Columns
from millwright.storage.damage import damaged
from millwright.storage.own_files import write_whole

__all__ = [
    "PartList",
    "columns_of",
    "flat_values",
    "part_lists",
    "part_name",
    "read_parquet",
    "write_part",
]

_KEPT_BYTES = 256_000_000
_READ_AT_ONCE = 16_000_000


def part_name(chain: int, number: int) -> str:
    """Return the file name of a chain's part; both are counted from 1."""
    return f"chain-{chain + 1:02d}-{number:06d}.parquet"


def write_part(
    path: Path,
    chain: int,
    first: int,
    values: Mapping[str, np.ndarray],
    meta: Mapping[str, Any] | None = None,
) -> None:
    """Write consecutive rows of a chain.

    Parameters
    ----------
    first
        Number of the first row, from 1.
    values
        Arrays of shape (rows,) or (rows, ...); the latter become lists of fixed size.
    meta
        Stored as JSON in the file's metadata.
    """
    rows = len(next(iter(values.values())))
    columns: dict[str, pa.Array] = {
        "chain": pa.array(np.full(rows, chain + 1)),
        "iteration": pa.array(np.arange(first, first + rows)),
    }
    for name, value in values.items():
        flat = pa.array(np.ascontiguousarray(value, dtype=float).reshape(-1))
        size = int(np.prod(value.shape[1:], dtype=int))
        columns[name] = pa.FixedSizeListArray.from_arrays(flat, size) if value.ndim > 1 else flat
    table = pa.table(columns)
    if meta:
        table = table.replace_schema_metadata({k: json.dumps(v) for k, v in meta.items()})
    write_whole(path, lambda file: pq.write_table(table, file, write_page_checksum=True))


@dataclass(frozen=True)
class PartList:
    """The parts of one chain in order, and how many rows they hold."""

    paths: tuple[Path, ...]
    rows: int


def part_lists(folder: Path, chains: int) -> tuple[PartList, ...]:
    """Find the parts of each chain."""
    found: list[PartList] = []
    for chain in range(chains):
        paths: list[Path] = []
        rows = 0
        while (path := folder / part_name(chain, len(paths) + 1)).is_file():
            rows += _rows_in(path)
            paths.append(path)
        found.append(PartList(tuple(paths), rows))
    return tuple(found)


def _rows_in(path: Path) -> int:
    try:
        return int(pq.read_metadata(path).num_rows)
    except (OSError, pa.ArrowException) as error:
        raise damaged(path, f"cannot be read ({error})") from error


def columns_of(
    lists: Sequence[PartList],
    names: Mapping[str, tuple[int, ...]],
    draws: int,
) -> Columns:
    """Return the columns of several chains' parts, to be read when asked for.

    Parameters
    ----------
    names
        The shape of one value of each column.
    draws
        Rows to take of each chain.
    """
    shape = (len(lists), draws)
    size = 8 * shape[0] * draws * sum(int(np.prod(one, dtype=int)) for one in names.values())
    if size <= _READ_AT_ONCE:
        # Small runs are read whole, so that they outlive their folder.
        found = _read(lists, names, draws)
        return Columns(list(names), shape, found.__getitem__, keep=True)

    def read(name: str) -> np.ndarray:
        return _read(lists, {name: names[name]}, draws)[name]

    return Columns(list(names), shape, read, keep=size <= _KEPT_BYTES)


def _read(
    lists: Sequence[PartList], names: Mapping[str, tuple[int, ...]], draws: int
) -> dict[str, np.ndarray]:
    """Read columns of all chains, each file once."""
    result = {name: np.empty((len(lists), draws, *shape)) for name, shape in names.items()}
    for chain, parts in enumerate(lists):
        at = 0
        for path in parts.paths:
            if at >= draws:
                break
            table = read_parquet(path, list(names))
            rows = min(table.num_rows, draws - at)
            for name, shape in names.items():
                found = flat_values(table[name]).reshape(-1, *shape)
                result[name][chain, at : at + rows] = found[:rows]
            at += rows
    return result


def flat_values(column: pa.ChunkedArray) -> np.ndarray:
    """Return the numbers of a column one after the other."""
    array = column.combine_chunks()
    if pa.types.is_fixed_size_list(array.type):
        # Not `flatten`, which loads all functions on columns.
        size = array.type.list_size
        array = array.values.slice(array.offset * size, len(array) * size)
    if array.null_count == 0 and not pa.types.is_boolean(array.type):
        # Does without pandas, which `to_numpy` loads.
        return np.array(np.from_dlpack(array), dtype=float)
    return np.asarray(array.to_numpy(zero_copy_only=False), dtype=float)


def read_parquet(path: Path, columns: list[str] | None = None) -> pa.Table:
    """Read a file of a run.

    Raises
    ------
    StorageError
        If it is missing or damaged.
    """
    try:
        # Quicker to load than what reads whole folders of files.
        with pq.ParquetFile(path, page_checksum_verification=True) as file:
            return file.read(columns=columns)
    except FileNotFoundError:
        raise damaged(path, "is missing") from None
    except (OSError, pa.ArrowException) as error:
        raise damaged(path, f"cannot be read ({error})") from error
