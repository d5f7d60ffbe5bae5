"""Fits from their start to a posterior, in memory or in a folder, and going on with them.

What reads and writes folders takes long to load, and is imported where it is used.
"""

from __future__ import annotations

import tempfile
import zipfile
import zlib
from collections.abc import Iterator
from concurrent.futures import Executor
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from millwright.checks import check_path
from millwright.errors import Interrupted, StorageError
from millwright.fitting.in_memory import run_in_memory
from millwright.fitting.job import Job
from millwright.posterior.posterior import Posterior
from millwright.sampling.progress import Listener
from millwright.storage.own_files import unpack
from millwright.storage.place import RunPlace, run_in
from millwright.terminal.progress import chosen_listener
from millwright.wording import action, setting

__all__ = ["fit", "load", "resume"]

# What unpacking raises for files that are cut, changed, encrypted or packed in an unknown way.
_UNREADABLE = (OSError, EOFError, RuntimeError, ValueError, zipfile.BadZipFile, zlib.error)


@contextmanager
def _stops_before_sampling(path: Path | None) -> Iterator[None]:
    """Say what there is after a Ctrl-C while modes are looked for or code is compiled."""
    try:
        yield
    except Interrupted:
        raise
    except KeyboardInterrupt:
        kept = "Nothing had been sampled, and nothing is stored"
        if path is not None and (path / "run.json").is_file():
            kept = f"Nothing had been sampled; {action('resume', str(path))} begins anew"
        raise Interrupted(
            "The fit was stopped before sampling, while it searched for modes or compiled. "
            f"{kept}."
        ) from None


def fit(
    job: Job,
    model: Any,
    sheet: str | None,
    place: RunPlace | None,
    workers: int | Executor | None,
    listener: Listener,
) -> Posterior:
    """Run a job of a model: in memory, in a new folder, or going on with a stored run.

    Raises
    ------
    StorageError
        If the stored run is of another job.
    Interrupted
        On Ctrl-C.
    """
    if place is None:
        return _fit_in_memory(job, sheet, workers, listener)
    if place.goes_on:
        return _go_on_in_folder(job, place.path, model, workers, listener)
    from millwright.fitting.in_folder import run_in_folder

    with _stops_before_sampling(place.path):
        complete = run_in_folder(job, place.path, place.replace, sheet, workers, listener)
    return _read_back(place.path, complete, model)


def _fit_in_memory(
    job: Job, sheet: str | None, workers: int | Executor | None, listener: Listener
) -> Posterior:
    with _stops_before_sampling(None):
        fitted, complete = run_in_memory(job, workers, listener)
    if fitted is None:
        raise Interrupted(
            "The fit was stopped before every chain had kept a draw. Give "
            f"{setting('save')} to be able to go "
            "on after a stop."
        )
    posterior = Posterior(replace(fitted, sheet=sheet))
    if complete:
        return posterior
    raise Interrupted(
        f"The fit was stopped; the {posterior.draws.shape[1]} draws a chain so far are in this "
        "error's `posterior`, and its `extend()` goes on.",
        posterior,
    )


def _read_back(path: Path, complete: bool, model: Any) -> Posterior:
    from millwright.fitting.in_folder import open_fit

    opened = open_fit(path, model)
    posterior = None
    if opened.fit is not None:
        posterior = Posterior(opened.fit)
    if complete and posterior is not None:
        return posterior
    kept = f"{posterior.draws.shape[1]} draws a chain" if posterior else "the warm-up so far"
    raise Interrupted(
        f"The fit was stopped; {kept} are stored in {path}, and "
        f"{action('resume', str(path))} goes on.",
        posterior,
    )


def _go_on_in_folder(
    job: Job, path: Path, model: Any, workers: int | Executor | None, listener: Listener
) -> Posterior:
    """Go on with a stored run if it is of the same job, and if that asks for more draws."""
    from millwright.fitting.in_folder import differences, open_fit, resume_in_folder

    stored = open_fit(path, model).job
    different = differences(job, stored)
    if different:
        raise StorageError(
            f"The run in {path} is not of this fit: {', '.join(different)} differ. Choose another "
            f"folder, or give {setting('replace', True)}."
        )
    draws = max(job.settings.draws, stored.settings.draws) if stored else None
    return _read_back(path, resume_in_folder(path, model, draws, workers, listener), model)


def load(path: str | Path, *, model: Any = None) -> Posterior:
    """Load a stored run; one that was cut off gives the draws so far.

    Parameters
    ----------
    path
        The folder of the run, or a zip file that `export_run` made of it; the draws in such a
        file are read into memory.
    model
        The model or target that made it. It is needed only to compute with functions of its own
        that are not registered here: draws and tables always load.

    Raises
    ------
    StorageError
        If it is not a run, a part of it is missing or damaged, or it holds no draws yet.
    """
    from millwright.fitting.in_folder import open_fit

    place = check_path("path", path)
    if place.suffix.lower() == ".zip":
        return _load_packed(place, model)
    opened = open_fit(run_in(place), model)
    if opened.fit is None:
        raise StorageError(
            f"{path} holds no draws yet: the fit was stopped in its warm-up. "
            f"{action('resume', str(path))} goes on with it."
        )
    return Posterior(opened.fit)


def _load_packed(path: Path, model: Any) -> Posterior:
    """Load a run from a zip file."""
    with tempfile.TemporaryDirectory() as folder:
        try:
            with zipfile.ZipFile(path) as packed:
                unpack(packed, Path(folder), path.stat().st_size)
        except FileNotFoundError:
            raise StorageError(f"There is no file {path}.") from None
        except StorageError:
            raise  # it says already what is wrong, and is an OSError itself
        except _UNREADABLE as error:
            raise StorageError(f"{path} cannot be read as a packed run: {error}.") from error
        found = list(Path(folder).glob("*/run.json"))
        if len(found) != 1:
            raise StorageError(f"{path} does not hold a run: there is no folder with run.json.")
        posterior = load(found[0].parent, model=model)
        # What is read when asked for must be read before the folder goes.
        values = {name: np.array(value) for name, value in posterior.draws.values.items()}
        statistics = {name: np.array(value) for name, value in posterior.fit.statistics.items()}
        draws = replace(posterior.draws, values=values)
        return Posterior(replace(posterior.fit, draws=draws, statistics=statistics))


def resume(
    path: str | Path,
    *,
    draws: int | None = None,
    model: Any = None,
    workers: int | Executor | None = None,
    progress: bool | Listener = True,
) -> Posterior:
    """Go on with a stored run, after a crash or Ctrl-C or to have more draws.

    The draws are those that one uninterrupted run would have had. Warm-up is not done again.

    Parameters
    ----------
    draws
        How many draws a chain to have in the end; by default as many as were planned.
    model
        The model or target that made it, where its functions are not registered here; it is
        checked against stored log densities.
    workers, progress
        As for `fit`.
    path
        The folder of the run.

    Returns
    -------
    The posterior of the whole run.

    Raises
    ------
    StorageError
        If it is not a run, is damaged or in use.
    ArgumentError
        If it has more draws already.
    ModelError
        If a function is missing, or gives another density than the run was made with.
    Interrupted
        On Ctrl-C.
    """
    from millwright.fitting.in_folder import resume_in_folder

    place = run_in(check_path("path", path))
    complete = resume_in_folder(place, model, draws, workers, chosen_listener(progress))
    return _read_back(place, complete, model)
