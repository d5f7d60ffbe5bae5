"""Draws that another program made, as a posterior for checking and summarising."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from millwright.checks import check_path
from millwright.draws.labelled_draws import Draws
from millwright.errors import ArgumentError, DataError, StorageError
from millwright.exchange.text_tables import text_table
from millwright.fitting.fit import Fit
from millwright.fitting.record import Origin, Record
from millwright.fitting.versions import now, versions
from millwright.modelling.binding import bind
from millwright.modelling.specification import specify
from millwright.posterior.posterior import Posterior
from millwright.sampling.piece import STATISTICS
from millwright.storage.rescue import rescued

__all__ = ["read_draws"]


def read_draws(
    path: str | Path | Sequence[str | Path], *, chain: str = "chain", iteration: str = "iteration"
) -> Posterior:
    """Read draws from files as a posterior: verdict, table, intervals, statements and figures.

    The model that made them is not known: priors, predictions and leave-one-out are refused.
    Of a run folder that is damaged, what can be read of its draws is taken in the same way.

    Parameters
    ----------
    path
        One file with a column that numbers the chains, a list of files, one a chain, or the
        folder of a stored run. CSV, Parquet, JSON records, NetCDF and Excel, by the ending; of
        CSV files lines that begin with # are skipped. Every other column is a
        quantity; signs that the model language cannot write become `_`, as in `beta_1` for
        `beta[1]`.
    chain, iteration
        Names of the columns that number chains and the draws of each; the second may be
        missing.

    Returns
    -------
    A posterior without a model.

    Raises
    ------
    StorageError
        If a file is missing or cannot be read.
    DataError
        If there are no draws, columns that are no numbers, or chains of different lengths.
    """
    one = isinstance(path, str | Path) or not isinstance(path, Sequence)
    every: Any = [path] if one else path
    paths = [check_path("path", each) for each in every]
    if one and paths[0].is_dir():
        return _from_run(paths[0])
    if not paths:
        raise ArgumentError("Name at least one file.")
    frames = [_read(place) for place in paths]
    if one and chain in frames[0]:
        frames = [frame for _, frame in frames[0].groupby(chain, sort=True)]
    chains = [frame.drop(columns=[chain, iteration], errors="ignore") for frame in frames]
    _check(chains, paths)
    names = _names([str(column) for column in chains[0].columns])
    values = np.stack([frame.to_numpy(float) for frame in chains])
    title = f"Draws from {', '.join(place.name for place in paths)}"
    notes = "Made by another program: the model is not known here."
    content = hashlib.sha256(b"".join(place.read_bytes() for place in paths)).hexdigest()
    return _posterior(title, notes, names, values, content, Origin.FILES)


def _from_run(path: Path) -> Posterior:
    """Read what is left of a run."""
    found = rescued(path)
    content = hashlib.sha256(np.ascontiguousarray(found.values).tobytes()).hexdigest()
    notes = "Read from the files of draws alone: the model is not known here."
    title = f"Draws from the run {path.name}"
    return _posterior(
        title, notes, _names(found.names), found.values, content, Origin.DAMAGED_RUN, found.lost
    )


def _posterior(
    title: str,
    notes: str,
    names: Sequence[str],
    values: np.ndarray,
    content: str,
    origin: Origin,
    lost: Sequence[str] = (),
) -> Posterior:
    specification = specify(
        title,
        notes,
        dict.fromkeys(names, "flat()"),
        {},
        {},
        {},
        {"unknown": f"0 * {names[0]}"},
        {},
    )
    draws = Draws(
        bind(specification, None),
        {name: values[:, :, at] for at, name in enumerate(names)},
    )
    record = _record(content, values.shape, origin, lost)
    statistics = _no_statistics(values.shape[:2])
    return Posterior(Fit(draws=draws, record=record, statistics=statistics))


def _read(path: Path) -> pd.DataFrame:
    try:
        return _READERS.get(path.suffix.lower(), _from_csv)(path)
    except DataError:
        raise
    except FileNotFoundError:
        raise StorageError(f"There is no file {path}.") from None
    except OSError as error:
        raise StorageError(f"{path} cannot be read: {error.strerror or error}.") from error
    except (ValueError, KeyError, pd.errors.ParserError, pd.errors.EmptyDataError) as error:
        raise DataError(f"{path} is not a table of draws: {error}.") from error


def _from_csv(path: Path) -> pd.DataFrame:
    return text_table(path, str(path), comment="#")


def _from_netcdf(path: Path) -> pd.DataFrame:
    import xarray as xr

    with xr.open_dataset(path, engine="scipy") as content:
        return content.to_dataframe().reset_index(drop=True)


_READERS: Mapping[str, Callable[[Path], pd.DataFrame]] = {
    ".parquet": pd.read_parquet,
    ".json": lambda path: pd.read_json(path, orient="records"),
    ".nc": _from_netcdf,
    ".xlsx": pd.read_excel,
}


def _check(chains: Sequence[pd.DataFrame], paths: Sequence[Path]) -> None:
    where = ", ".join(str(path) for path in paths[:3])
    first = list(chains[0].columns) if chains else []
    if not first or not len(chains[0]):
        raise DataError(f"There are no draws in {where}.")
    lengths = {len(frame) for frame in chains}
    if len(lengths) > 1:
        raise DataError(
            f"The chains in {where} have {', '.join(map(str, sorted(lengths)))} draws; they must "
            "be equally long: cut the longer ones."
        )
    for frame in chains:
        if list(frame.columns) != first:
            raise DataError(f"The files {where} have different columns.")
        bad = [str(c) for c in frame.columns if not pd.api.types.is_numeric_dtype(frame[c])]
        if bad:
            raise DataError(f"In {where} the column `{bad[0]}` does not hold numbers.")


def _names(columns: Sequence[str]) -> list[str]:
    """Return names that the model language can write."""
    found = []
    for column in columns:
        name = re.sub(r"\W+", "_", column).strip("_") or "quantity"
        found.append(f"q_{name}" if name[0].isdigit() or name in ("row", "chain") else name)
    if len(set(found)) < len(found):
        twice = next(name for name in found if found.count(name) > 1)
        raise DataError(f"Several columns would be called `{twice}` here; rename them.")
    return found


def _record(content: str, shape: tuple[int, ...], origin: Origin, lost: Sequence[str]) -> Record:
    settings = {
        "method": "read from files",
        "chains": shape[0],
        "draws": shape[1],
        "warmup": 0,
        "thin": 1,
        "missing": "refuse",
        "trial": False,
    }
    return Record(
        origin=origin,
        seed=0,
        settings=settings,
        versions=versions(),
        fingerprint=content,
        chains=(),
        seconds={},
        started=now(),
        complete=True,
        lost=tuple(lost),
    )


def _no_statistics(shape: tuple[int, ...]) -> dict[str, np.ndarray]:
    """Return the sampler's numbers as not known, and no divergences."""
    unknown = {name: np.full(shape, np.nan) for name in STATISTICS}
    return unknown | {"diverged": np.zeros(shape), "doublings": np.zeros(shape)}
