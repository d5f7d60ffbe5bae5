"""A stored study: a folder with what makes it anew, and the runs of its models.

study.json       name, settings, settings of the fits, version
data.parquet     the rows that the study uses
runs/NAME/       one stored run a model
"""

from __future__ import annotations

import json
import re
import shutil
import zlib
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pandas as pd

from millwright.errors import ArgumentError, StorageError
from millwright.fitting.versions import versions
from millwright.storage.own_files import refuse_links, write_whole
from millwright.storage.place import STUDY_FILE, check_new
from millwright.wording import setting

__all__ = ["StoredStudy", "StudyFolder"]

FORMAT = 1
_LONGEST = 60


def folder_name(model: str) -> str:
    """Return what the folder of a model's run is called; with a mark where signs are lost."""
    words = re.sub(r"[^\w.-]+", "-", model.replace(" ", "-")).strip("-.")
    if words == model.replace(" ", "-") and len(words) < _LONGEST:
        return words
    return f"{words[:_LONGEST]}-{zlib.crc32(model.encode()):08x}"


@dataclass(frozen=True, kw_only=True)
class StoredStudy:
    """The content of a study folder, apart from its runs.

    Attributes
    ----------
    name, settings, remarks, data
        What makes the study anew.
    fit
        Settings of the fits.
    models
        Names of the fitted models; the first gives the answer.
    """

    name: str
    settings: Mapping[str, Any]
    remarks: tuple[str, ...]
    fit: Mapping[str, Any]
    models: tuple[str, ...]
    data: pd.DataFrame


@dataclass(frozen=True)
class StudyFolder:
    """The folder of a study."""

    path: Path

    def run(self, model: str) -> Path:
        """Return the folder of the run of a model."""
        return self.path / "runs" / folder_name(model)

    def begin(self, study: StoredStudy, replace: bool) -> None:
        """Write the study, without runs.

        Raises
        ------
        StorageError
            If something is in the way, or the disk cannot be written.
        ArgumentError
            If a setting cannot be written.
        """
        check_new(self.path, replace)
        if self.path.exists():
            if not (self.path / STUDY_FILE).is_file():
                raise StorageError(
                    f"{self.path} is not a stored study, so it is not replaced. Choose another "
                    "folder."
                )
            refuse_links(self.path)
        content = {
            "format": FORMAT,
            "study": study.name,
            "settings": study.settings,
            "remarks": list(study.remarks),
            "fit": study.fit,
            "models": [folder_name(model) for model in study.models],
            "versions": versions(),
        }
        try:
            text = json.dumps(content, indent=2)
        except TypeError as error:
            raise ArgumentError(
                f"A stored study holds plain settings only: {error}. Fit without "
                f"{setting('save')}, or give them as text and numbers."
            ) from error
        try:
            if self.path.exists():
                shutil.rmtree(self.path)
            self.path.mkdir(parents=True)
            study.data.to_parquet(self.path / "data.parquet", index=False)
            write_whole(self.path / STUDY_FILE, lambda file: file.write(text.encode()))
        except OSError as error:
            raise StorageError(f"{self.path} cannot be written: {error.strerror}.") from error

    def read(self) -> StoredStudy:
        """Read the study.

        Raises
        ------
        StorageError
            If it is none, or is damaged.
        """
        if not (self.path / STUDY_FILE).is_file():
            raise StorageError(
                f"{self.path} is not a stored study: there is no {self.path / STUDY_FILE}."
            )
        refuse_links(self.path)
        try:
            content = json.loads((self.path / STUDY_FILE).read_text("utf-8"))
            data = pd.read_parquet(self.path / "data.parquet")
            return StoredStudy(
                name=str(content["study"]),
                settings=dict(content["settings"]),
                remarks=tuple(map(str, content["remarks"])),
                fit=dict(content["fit"]),
                models=tuple(map(str, content["models"])),
                data=data,
            )
        except (OSError, ValueError, KeyError, TypeError) as error:
            raise StorageError(
                f"The study in {self.path} is damaged: {type(error).__name__}: {error}. Its runs, "
                f"in {self.path / 'runs'}, may load one by one."
            ) from error
