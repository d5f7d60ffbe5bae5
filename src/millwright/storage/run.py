"""A stored run: a folder in open formats that can be read without this library.

    run.json         settings, seed, versions, data fingerprint
    model.toml       the model; sheet.toml is the sheet as the user wrote it, if there was one
    data/            the data, one Parquet file a table, and tables.json
    draws/           Parquet parts, chain by chain: one row a draw, columns chain and draw, one
                     column a quantity (a fixed-size list where it has labels), the labels in
                     the metadata
    statistics/      the sampler's numbers of each draw, in parts likewise
    warmup/          the sampler's numbers of each warm-up transition, one file a chain
    state/           what each unit of work needs to go on, and the coordinates it works in
    lock             held by the process that writes

A run appears under its name when everything but the draws is in it. From then on files are
written aside and renamed, and the files in `state/` say how far the run is, so that a process
killed at any moment leaves a run that loads and goes on.
"""

from __future__ import annotations

import json
import os
import shutil
import tempfile
import zipfile
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from millwright.draws.columns import Columns
from millwright.errors import MillwrightError, StorageError
from millwright.modelling.labelled import RowAxis, base_axis, row_axis
from millwright.modelling.tables import Column, Tables
from millwright.sampling.chain_buffer import ChainBuffer
from millwright.sampling.piece import STATISTICS
from millwright.storage.damage import damaged
from millwright.storage.lock import locked
from millwright.storage.own_files import refuse_links
from millwright.storage.parts import (
    PartList,
    columns_of,
    flat_values,
    part_lists,
    part_name,
    read_parquet,
)
from millwright.storage.place import check_free
from millwright.storage.sheet import sheet_file_text

__all__ = [
    "FORMAT",
    "Header",
    "StoredRun",
    "StoredUnit",
    "check_is_run",
    "create_run",
    "read_run",
]

FORMAT = 4

Coordinates = Mapping[tuple[str, ...], np.ndarray]


@dataclass(frozen=True, kw_only=True)
class Header:
    """What a run folder holds besides draws.

    Attributes
    ----------
    record
        The content of run.json.
    model
        The text of model.toml.
    sheet
        The sheet as the user wrote it, if there was one.
    data
        The tables.
    coordinates
        Constants of the coordinates in which group effects are sampled.
    """

    record: Mapping[str, Any]
    model: str
    sheet: str | None
    data: Tables
    coordinates: Coordinates


@dataclass(frozen=True, kw_only=True)
class StoredUnit:
    """How far a unit of work was at its last commit.

    Attributes
    ----------
    kind
        Name of the type of its state; `numbers` and `arrays` are the state's fields.
    chains
        Of each of its chains what does not fill a file.
    reports
        What each of its chains settled on.
    """

    kind: str
    numbers: Mapping[str, Any]
    arrays: Mapping[str, np.ndarray]
    chains: Mapping[int, ChainBuffer]
    reports: tuple[Mapping[str, Any], ...]


@dataclass(frozen=True, kw_only=True)
class StoredRun:
    """The content of a run folder.

    Attributes
    ----------
    path
        The folder.
    draws
        Draws of each unknown, shape (chains, draws, labels...), read when asked for.
    statistics
        The sampler's numbers by name, shape (chains, draws), read when asked for.
    warmup
        Those of the warm-up, shape (chains, transitions, 7); None where there are none.
    units
        The state of each unit of work, by number.
    """

    path: Path
    header: Header
    draws: Columns
    statistics: Columns
    warmup: np.ndarray | None
    units: Mapping[int, StoredUnit]


def create_run(path: Path, header: Header, replace: bool = False) -> None:
    """Make a run folder without draws.

    Parameters
    ----------
    replace
        Whether a run that is there makes way.

    Raises
    ------
    StorageError
        If something is in the way or the disk cannot be written.
    """
    check_free(path, replace)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        beside = Path(tempfile.mkdtemp(prefix=f".{path.name}-", dir=path.parent))
        try:
            _write_header(beside, header)
            if path.exists():
                locked(path).release()
                shutil.rmtree(path)
            beside.chmod(0o755)
            os.replace(beside, path)
        except BaseException:
            shutil.rmtree(beside, ignore_errors=True)
            raise
    except OSError as error:
        if isinstance(error, StorageError):
            raise
        raise StorageError(f"The run cannot be written to {path}: {error.strerror}.") from error


def _write_header(folder: Path, header: Header) -> None:
    (folder / "run.json").write_text(json.dumps(header.record, indent=2), encoding="utf-8")
    (folder / "model.toml").write_text(header.model, encoding="utf-8")
    if header.sheet is not None:
        (folder / "sheet.toml").write_text(header.sheet, encoding="utf-8")
    for name in ("data", "draws", "statistics", "warmup", "state"):
        (folder / name).mkdir()
    _write_data(folder / "data", header.data)
    arrays = {"/".join(key): value for key, value in header.coordinates.items()}
    np.savez(folder / "state" / "coordinates.npz", **arrays)  # type: ignore[arg-type]


def _write_data(folder: Path, data: Tables) -> None:
    """Write each table to `NUMBER.parquet`; their names and shapes stand in tables.json."""
    tables = _tables_of(data)
    constants = {c.name: float(c.values) for c in data.columns.values() if not c.axes}
    index = {
        "rows": [[axis, size] for axis, size in data.sizes.items()],
        "constants": constants,
        "matrices": {name: list(labels) for name, labels in data.matrix_labels.items()},
        "levels": {c.name: list(c.order) for c in data.columns.values() if c.order is not None},
        "files": list(tables),
    }
    (folder / "tables.json").write_text(json.dumps(index, indent=2), encoding="utf-8")
    for number, table in tables.items():
        pq.write_table(table, folder / f"{number}.parquet", write_page_checksum=True)


def _tables_of(data: Tables) -> dict[int, pa.Table]:
    """Return the columns of each set of rows that has any, by number from 1."""
    result = {}
    for number, axis in enumerate(data.sizes, start=1):
        columns = [c for c in data.columns.values() if c.axes and c.axes[0] == axis]
        if columns:
            result[number] = pa.table({c.name: _column_array(c) for c in columns})
    return result


def _column_array(column: Column) -> pa.Array:
    if len(column.axes) == 2:
        flat = pa.array(np.ascontiguousarray(column.values).reshape(-1))
        return pa.FixedSizeListArray.from_arrays(flat, column.values.shape[1])
    if column.numeric:
        return pa.array(column.values)
    return pa.array(list(column.values), type=pa.string())


def check_is_run(path: Path) -> None:
    """Refuse a path that is not a run folder.

    Raises
    ------
    StorageError
        If it is none.
    """
    if not path.is_dir() or not (path / "run.json").is_file():
        if (path / "draws").is_dir():
            raise damaged(path / "run.json", "is missing")
        if path.suffix.lower() == ".zip" and path.is_file():
            raise StorageError(
                f"{path} is a packed run, which cannot be added to: unpack it and name its folder."
            )
        raise StorageError(f"{path} is not a stored run: there is no {path / 'run.json'}.")


def read_run(path: Path, entries: Sequence[str]) -> StoredRun:
    """Read a run folder; draws are read when they are asked for.

    Parameters
    ----------
    entries
        What `run.json` must hold.

    Raises
    ------
    StorageError
        If it is not a run, a part is missing or damaged, or it holds no draws yet.
    """
    check_is_run(path)
    refuse_links(path)
    record = _read_json(path / "run.json", ("format",))
    if record.get("format") != FORMAT:
        raise StorageError(
            f"{path} was written in format {record.get('format')!r}; this version reads {FORMAT}. "
            "Fit its model again: `model.toml` and `data` in that folder have all that it was "
            "given."
        )
    _check_entries(path / "run.json", record, entries)
    model, sheet = _model_of(path)
    data = _read_data(path / "data")
    coordinates = {tuple(k.split("/", 1)): v for k, v in _coordinates(path).items()}
    chains = int(record["settings"]["chains"])
    lists = part_lists(path / "draws", chains)
    numbers = part_lists(path / "statistics", chains)
    draws = min(found.rows for found in (*lists, *numbers))
    units = _units(path / "state")
    _check_parts(path, units, lists, numbers)
    sizes = {name: len(values) for name, values in record["labels"].items()}
    shapes = {
        name: tuple(sizes[base_axis(axis)] for axis in axes)
        for name, axes in record["axes"].items()
    }
    return StoredRun(
        path=path,
        header=Header(record=record, model=model, sheet=sheet, data=data, coordinates=coordinates),
        draws=columns_of(lists, shapes, draws),
        statistics=columns_of(numbers, dict.fromkeys(STATISTICS, ()), draws),
        warmup=_warmup(path / "warmup", chains),
        units=units,
    )


def _model_of(path: Path) -> tuple[str, str | None]:
    """Return the model's text, and the sheet as it was written if there was one."""
    place, as_written = path / "model.toml", path / "sheet.toml"
    if not place.is_file():
        raise damaged(place, "is missing")
    try:
        model = sheet_file_text(place)
        sheet = as_written.read_text(encoding="utf-8") if as_written.is_file() else None
    except MillwrightError as error:
        raise damaged(place, f"cannot be read ({error.marked})") from error
    except UnicodeDecodeError as error:
        raise damaged(as_written, f"cannot be read ({error})") from error
    return model, sheet


def _check_parts(
    path: Path,
    units: Mapping[int, StoredUnit],
    lists: tuple[PartList, ...],
    numbers: tuple[PartList, ...],
) -> None:
    """Compare the parts with what the states say was written."""
    for unit in units.values():
        for chain, files in unit.chains.items():
            wanted = files.full + bool(len(files.positions))
            for folder, found in (("draws", lists), ("statistics", numbers)):
                if len(found[chain].paths) < wanted:
                    name = part_name(chain, len(found[chain].paths) + 1)
                    raise damaged(path / folder / name, "is missing")


def _coordinates(path: Path) -> dict[str, np.ndarray]:
    return _read_arrays(path / "state" / "coordinates.npz")


def _read_arrays(path: Path) -> dict[str, np.ndarray]:
    try:
        with path.open("rb") as file, np.load(file, allow_pickle=False) as stored:
            return {name: stored[name] for name in stored.files}
    except FileNotFoundError:
        raise damaged(path, "is missing") from None
    except (OSError, ValueError, EOFError, KeyError, zipfile.BadZipFile) as error:
        raise damaged(path, f"cannot be read ({error})") from error


def _warmup(folder: Path, chains: int) -> np.ndarray | None:
    """Return the warm-up's statistics, cut to the shortest chain."""
    paths = [folder / f"chain-{chain + 1:02d}.parquet" for chain in range(chains)]
    if not all(path.is_file() for path in paths):
        return None
    tables = [read_parquet(path) for path in paths]
    n = min(table.num_rows for table in tables)
    rows = [
        np.stack([flat_values(table[name]) for name in STATISTICS], axis=1)[:n] for table in tables
    ]
    return np.stack(rows)


def _units(folder: Path) -> dict[int, StoredUnit]:
    result: dict[int, StoredUnit] = {}
    for path in sorted(folder.glob("unit-*.npz")):
        arrays = _read_arrays(path)
        header = json.loads(str(arrays.pop("header")))
        of_state = {
            name.removeprefix("state/"): value
            for name, value in arrays.items()
            if name.startswith("state/")
        }
        done = int(header["numbers"]["done"])
        chains = {
            int(chain): _buffer_of(folder.parent, int(chain), full, arrays, done)
            for chain, full in header["chains"].items()
        }
        result[int(header["numbers"]["unit"])] = StoredUnit(
            kind=header["kind"],
            numbers=header["numbers"],
            arrays=of_state,
            chains=chains,
            reports=tuple(header["reports"]),
        )
    return result


def _buffer_of(
    path: Path, chain: int, full: int, arrays: Mapping[str, np.ndarray], done: int
) -> ChainBuffer:
    positions, rows, failures, failed = (
        arrays[f"{chain}/{name}"] for name in ("positions", "rows", "failures", "failed")
    )
    warm = path / "warmup" / f"chain-{chain + 1:02d}.parquet"
    dimension = positions.shape[1]
    warmup, where = np.zeros((0, len(STATISTICS))), np.zeros((0, dimension))
    if warm.is_file():
        table = read_parquet(warm)
        # The file may be ahead of the state.
        warmup = np.stack([flat_values(table[name]) for name in STATISTICS], axis=1)[:done]
        if "position" in table.column_names:
            where = flat_values(table["position"]).reshape(-1, dimension)[:done]
    return ChainBuffer(
        dimension, full, positions, rows, warmup, failures, failed, where, len(warmup)
    )


def _read_data(folder: Path) -> Tables:
    index = _read_json(folder / "tables.json", ("rows", "constants", "matrices", "levels"))
    columns: dict[str, Column] = {}
    levels = index["levels"]
    for name, value in index["constants"].items():
        columns[name] = Column(name=name, values=np.asarray(value), axes=())
    sizes: dict[str, int] = {_row_axis(name): size for name, size in index["rows"]}
    for number, (axis, size) in enumerate(sizes.items(), start=1):
        if number not in index.get("files", [number]):
            continue
        table = read_parquet(folder / f"{number}.parquet")
        for name in table.column_names:
            stated = tuple(levels[name]) if name in levels else None
            columns[name] = _column_from(name, table[name], axis, size, stated)
    matrices = {name: tuple(labels) for name, labels in index["matrices"].items()}
    return Tables(columns, sizes, matrices)


def _row_axis(name: str) -> RowAxis:
    """Return the axis of a stored table; runs of version 0.1 wrote `row_of_upper`."""
    return row_axis(name.removeprefix("row_of_")) if name.startswith("row_of_") else RowAxis(name)


def _column_from(
    name: str, column: pa.ChunkedArray, axis: str, size: int, levels: tuple[Any, ...] | None
) -> Column:
    if pa.types.is_string(column.type):
        values = np.empty(size, dtype=object)
        values[:] = column.to_pylist()
        return Column(name=name, values=values, axes=(axis,), order=levels)
    flat = flat_values(column)
    if pa.types.is_fixed_size_list(column.type):
        return Column(name=name, values=flat.reshape(size, -1), axes=(axis, name))
    return Column(name=name, values=flat, axes=(axis,), order=levels)


def _check_entries(path: Path, content: Mapping[str, Any], needed: Sequence[str]) -> None:
    for key in needed:
        if key not in content:
            raise damaged(path, f"lacks the entry `{key}`")


def _read_json(path: Path, needed: Sequence[str]) -> dict[str, Any]:
    """Read a file that holds a table with some keys."""
    try:
        content = json.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError:
        raise damaged(path, "is missing") from None
    except (OSError, ValueError) as error:
        raise damaged(path, f"cannot be read ({error})") from error
    if not isinstance(content, dict):
        raise damaged(path, "does not hold what it should")
    _check_entries(path, content, needed)
    return content
