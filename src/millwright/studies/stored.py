"""Stored studies: read with their runs, or gone on with."""

from __future__ import annotations

import importlib
from concurrent.futures import Executor
from pathlib import Path

from millwright.checks import check_path
from millwright.errors import MillwrightError, StorageError
from millwright.models.runs import load as load_run
from millwright.sampling.progress import Listener
from millwright.studies.catalogue import REBUILT_BY
from millwright.studies.findings import Findings
from millwright.studies.folder import StoredStudy, StudyFolder, folder_name
from millwright.studies.study import Study

__all__ = ["load", "resume"]


def load(path: str | Path) -> Findings:
    """Load a stored study with the runs of its models.

    Parameters
    ----------
    path
        The folder.

    Returns
    -------
    Its findings.

    Raises
    ------
    StorageError
        If it is not a stored study, or a part of it is missing or damaged.
    """
    folder = StudyFolder(check_path("path", path))
    stored = folder.read()
    study = _study(stored, folder.path)
    posteriors = {
        name: load_run(folder.run(name), model=model)
        for name, model in study.models.items()
        if folder_name(name) in stored.models
    }
    for name, posterior in posteriors.items():
        if posterior.draws.binding.specification != study.models[name].specification:
            raise StorageError(
                f"The model in {folder.run(name)} is not that of the study in {folder.path}, as "
                "this version makes it. Load the run by itself."
            )
    return study._found(posteriors, stored.fit)


def resume(
    path: str | Path,
    *,
    workers: int | Executor | None = None,
    progress: bool | Listener = True,
) -> Findings:
    """Go on with a stored study after a crash or Ctrl-C.

    Parameters
    ----------
    path
        The folder.
    workers, progress
        As for `Model.fit`.

    Returns
    -------
    Its findings, the same as those of a study that was not stopped.

    Raises
    ------
    StorageError
        If it is not a stored study, or damaged.
    Interrupted
        On Ctrl-C.
    """
    folder = StudyFolder(check_path("path", path))
    stored = folder.read()
    return _study(stored, folder.path)._fitted(folder, stored.fit, workers, progress)


def _study(stored: StoredStudy, path: Path) -> Study:
    if stored.name not in REBUILT_BY:
        raise StorageError(f"{path} holds a study {stored.name!r}, which is not known here.")
    try:
        rebuild = importlib.import_module(REBUILT_BY[stored.name]).rebuild
        made: Study = rebuild(stored.data, stored.settings, stored.remarks)
        return made
    except MillwrightError:
        raise
    except (LookupError, TypeError, ValueError) as error:
        raise StorageError(
            f"The study in {path} is damaged: {type(error).__name__}: {error}."
        ) from error
