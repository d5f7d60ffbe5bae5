"""A stored run: a folder in open formats that can be read without this library.

    run.json         settings, seed, versions, data fingerprint, sampler state
    model.toml       the model; sheet.toml is the sheet as the user wrote it, if there was one
    data/            the data, one Parquet file a table, and constants.json
    draws/           Parquet: one row a draw, columns chain and draw, one column a quantity (a
                     fixed-size list where it has labels), the labels in the metadata
    statistics/      Parquet: one row a draw, the sampler's numbers

A run is written into a folder beside its place and renamed when complete, so that a process
killed at any moment leaves either the whole run or none.
"""

from __future__ import annotations

import json
import os
import shutil
import tempfile
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from millwright.errors import StorageError
from millwright.modelling.labelled import base_axis
from millwright.modelling.tables import Column, Tables
from millwright.storage.place import check_free
from millwright.storage.sheet import read_sheet

__all__ = ["FORMAT", "StoredRun", "read_run", "write_run"]

FORMAT = 1


@dataclass(frozen=True)
class StoredRun:
    """The content of a run folder.

    Attributes
    ----------
    record
        The content of run.json.
    model
        The text of model.toml.
    data
        Tables by name (None for a single one) as mappings of columns.
    draws
        Draws of each unknown, shape (chains, draws, labels...).
    labels
        Labels of each label set.
    statistics
        Sampler statistics by name, shape (chains, draws).
    """

    record: Mapping[str, Any]
    model: str
    sheet: str | None
    data: Tables
    draws: Mapping[str, np.ndarray]
    labels: Mapping[str, tuple[Any, ...]]
    statistics: Mapping[str, np.ndarray]


def write_run(path: Path, run: StoredRun, existing: str = "refuse") -> None:
    """Write a run folder.

    Parameters
    ----------
    existing
        `refuse` or `replace`: what to do if the folder is there.

    Raises
    ------
    StorageError
        If something is in the way or the disk cannot be written.
    """
    check_free(path, existing)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        beside = Path(tempfile.mkdtemp(prefix=f".{path.name}-", dir=path.parent))
        try:
            _write_parts(beside, run)
            if path.exists():
                shutil.rmtree(path)
            beside.chmod(0o755)
            os.replace(beside, path)
        except BaseException:
            shutil.rmtree(beside, ignore_errors=True)
            raise
    except OSError as error:
        raise StorageError(f"The run cannot be written to {path}: {error.strerror}.") from error


def _write_parts(folder: Path, run: StoredRun) -> None:
    (folder / "run.json").write_text(json.dumps(run.record, indent=2), encoding="utf-8")
    (folder / "model.toml").write_text(run.model, encoding="utf-8")
    if run.sheet is not None:
        (folder / "sheet.toml").write_text(run.sheet, encoding="utf-8")
    (folder / "data").mkdir()
    _write_data(folder / "data", run.data)
    (folder / "draws").mkdir()
    pq.write_table(_draws_table(run), folder / "draws" / "part-000001.parquet")
    (folder / "statistics").mkdir()
    chains, draws = next(iter(run.draws.values())).shape[:2]
    columns = {name: pa.array(value.reshape(-1)) for name, value in run.statistics.items()}
    table = pa.table({**_counters(chains, draws), **columns})
    pq.write_table(table, folder / "statistics" / "part-000001.parquet")


def _counters(chains: int, draws: int) -> dict[str, pa.Array]:
    return {
        "chain": pa.array(np.repeat(np.arange(1, chains + 1), draws)),
        "draw": pa.array(np.tile(np.arange(1, draws + 1), chains)),
    }


def _draws_table(run: StoredRun) -> pa.Table:
    chains, draws = next(iter(run.draws.values())).shape[:2]
    columns: dict[str, pa.Array] = _counters(chains, draws)
    for name, value in run.draws.items():
        flat = pa.array(np.ascontiguousarray(value).reshape(-1))
        size = int(np.prod(value.shape[2:], dtype=int))
        columns[name] = pa.FixedSizeListArray.from_arrays(flat, size) if value.ndim > 2 else flat
    meta = {
        "labels": json.dumps({name: list(labels) for name, labels in run.labels.items()}),
        "axes": json.dumps(run.record["axes"]),
    }
    return pa.table(columns).replace_schema_metadata(meta)


def _write_data(folder: Path, data: Tables) -> None:
    """Write each table to `NUMBER.parquet`; their names and shapes stand in tables.json."""
    axes = list(data.sizes)
    constants = {c.name: float(c.values) for c in data.columns.values() if not c.axes}
    index = {
        "rows": [[axis, data.sizes[axis]] for axis in axes],
        "constants": constants,
        "matrices": {name: list(labels) for name, labels in data.matrix_labels.items()},
        "levels": {c.name: list(c.levels) for c in data.columns.values() if c.levels is not None},
    }
    (folder / "tables.json").write_text(json.dumps(index, indent=2), encoding="utf-8")
    for number, axis in enumerate(axes, start=1):
        columns = [c for c in data.columns.values() if c.axes and c.axes[0] == axis]
        arrays = {c.name: _column_array(c) for c in columns}
        if arrays:
            pq.write_table(pa.table(arrays), folder / f"{number}.parquet")


def _column_array(column: Column) -> pa.Array:
    if len(column.axes) == 2:
        flat = pa.array(np.ascontiguousarray(column.values).reshape(-1))
        return pa.FixedSizeListArray.from_arrays(flat, column.values.shape[1])
    if column.numeric:
        return pa.array(column.values)
    return pa.array(list(column.values), type=pa.string())


def read_run(path: Path) -> StoredRun:
    """Read a run folder.

    Raises
    ------
    StorageError
        If it is not a run, or a part is missing or damaged.
    """
    if not path.is_dir() or not (path / "run.json").is_file():
        raise StorageError(f"{path} is not a stored run: there is no {path / 'run.json'}.")
    record = _read_json(path / "run.json")
    if record.get("format") != FORMAT:
        raise StorageError(
            f"{path} was written in format {record.get('format')!r}; this version reads {FORMAT}."
        )
    _, model = read_sheet(path / "model.toml")
    sheet_path = path / "sheet.toml"
    sheet = sheet_path.read_text(encoding="utf-8") if sheet_path.is_file() else None
    table = _read_parquet(path / "draws" / "part-000001.parquet")
    meta = {key.decode(): json.loads(value) for key, value in table.schema.metadata.items()}
    labels = {name: tuple(values) for name, values in meta["labels"].items()}
    sizes = {name: len(values) for name, values in labels.items()}
    chains = int(np.max(table["chain"].to_numpy()))
    draws = table.num_rows // chains
    values = {}
    for name, axes in record["axes"].items():
        if name in table.column_names:
            flat = _flat(table[name])
            values[name] = flat.reshape(chains, draws, *(sizes[base_axis(axis)] for axis in axes))
    statistics = _read_parquet(path / "statistics" / "part-000001.parquet")
    numbers = {
        name: statistics[name].to_numpy().reshape(chains, draws)
        for name in statistics.column_names
        if name not in ("chain", "draw")
    }
    data = _read_data(path / "data")
    return StoredRun(record, model, sheet, data, values, labels, numbers)


def _flat(column: pa.ChunkedArray) -> np.ndarray:
    array = column.combine_chunks()
    if pa.types.is_fixed_size_list(array.type):
        array = array.flatten()
    return np.asarray(array.to_numpy(zero_copy_only=False), dtype=float)


def _read_data(folder: Path) -> Tables:
    index = _read_json(folder / "tables.json")
    columns: dict[str, Column] = {}
    levels = index["levels"]
    for name, value in index["constants"].items():
        columns[name] = Column(name, np.asarray(value), ())
    for number, (axis, size) in enumerate(index["rows"], start=1):
        path = folder / f"{number}.parquet"
        table = _read_parquet(path) if path.is_file() else pa.table({})
        for name in table.column_names:
            stated = tuple(levels[name]) if name in levels else None
            columns[name] = _column_from(name, table[name], axis, size, stated)
    matrices = {name: tuple(labels) for name, labels in index["matrices"].items()}
    return Tables(columns, dict(index["rows"]), matrices)


def _column_from(
    name: str, column: pa.ChunkedArray, axis: str, size: int, levels: tuple[Any, ...] | None
) -> Column:
    if pa.types.is_string(column.type):
        values = np.empty(size, dtype=object)
        values[:] = column.to_pylist()
        return Column(name, values, (axis,), levels)
    flat = _flat(column)
    if pa.types.is_fixed_size_list(column.type):
        return Column(name, flat.reshape(size, -1), (axis, name))
    return Column(name, flat, (axis,), levels)


def _read_json(path: Path) -> dict[str, Any]:
    try:
        content = json.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError:
        raise StorageError(f"The run is damaged: {path} is missing.") from None
    except (OSError, ValueError) as error:
        raise StorageError(f"The run is damaged: {path} cannot be read ({error}).") from error
    if not isinstance(content, dict):
        raise StorageError(f"The run is damaged: {path} does not hold what it should.")
    return content


def _read_parquet(path: Path) -> pa.Table:
    try:
        return pq.read_table(path)
    except FileNotFoundError:
        raise StorageError(f"The run is damaged: {path} is missing.") from None
    except (OSError, pa.ArrowException) as error:
        raise StorageError(f"The run is damaged: {path} cannot be read ({error}).") from error
