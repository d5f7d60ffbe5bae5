"""Stored studies: read with their runs, or gone on with."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from concurrent.futures import Executor
from pathlib import Path
from typing import Any

import pandas as pd

from millwright.errors import MillwrightError, StorageError
from millwright.models.runs import load as load_run
from millwright.sampling.progress import Listener
from millwright.studies import (
    correlation_study,
    group_study,
    proportion_study,
    regression_study,
)
from millwright.studies.findings import Findings
from millwright.studies.folder import StoredStudy, StudyFolder, folder_name
from millwright.studies.study import Study

__all__ = ["load", "resume"]

Rebuild = Callable[[pd.DataFrame, Mapping[str, Any], tuple[str, ...]], Study]

_KINDS: dict[str, Rebuild] = {
    correlation_study.CorrelationStudy.name: correlation_study.rebuild,
    group_study.GroupStudy.name: group_study.rebuild,
    proportion_study.ProportionStudy.name: proportion_study.rebuild,
    regression_study.RegressionStudy.name: regression_study.rebuild,
}


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
    folder = StudyFolder(Path(path))
    stored = folder.read()
    study = _study(stored, folder.path)
    posteriors = {
        name: load_run(folder.run(name))
        for name in study.models
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
    folder = StudyFolder(Path(path))
    stored = folder.read()
    return _study(stored, folder.path)._fitted(folder, stored.fit, workers, progress)


def _study(stored: StoredStudy, path: Path) -> Study:
    if stored.name not in _KINDS:
        raise StorageError(f"{path} holds a study {stored.name!r}, which is not known here.")
    try:
        return _KINDS[stored.name](stored.data, stored.settings, stored.remarks)
    except MillwrightError:
        raise
    except (LookupError, TypeError, ValueError) as error:
        raise StorageError(
            f"The study in {path} is damaged: {type(error).__name__}: {error}."
        ) from error
