"""A stored study: a folder with what makes it anew, and the runs of its models.

study.json       name, settings, settings of the fits, version
data.parquet     the rows that the study uses
runs/NAME/       one stored run a model
"""

from __future__ import annotations

import io
import json
import os
import re
import shlex
import shutil
import tempfile
import zlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pandas as pd

from millwright.errors import ArgumentError, StorageError
from millwright.fitting.versions import versions
from millwright.storage.own_files import refuse_links, write_whole
from millwright.storage.place import STUDY_FILE, check_new
from millwright.wording import either, setting

__all__ = ["StoredStudy", "StudyFolder", "ending_of", "folder_name", "write_table"]

FORMAT = 1
_LONGEST = 60


def ending_of(table: pd.DataFrame) -> str:
    """Return `.csv`, or `.parquet` where CSV would not give the same columns back."""
    again = pd.read_csv(io.StringIO(table.to_csv(index=False)))
    same = all(
        (again[name].dtype.kind in "biuf") == (table[name].dtype.kind in "biuf")
        for name in table.columns
    )
    return ".csv" if same else ".parquet"


def write_table(table: pd.DataFrame, file: Path) -> None:
    """Write a table in the format of the file's ending.

    Raises
    ------
    StorageError
        If it cannot be written.
    """
    try:
        if file.suffix == ".csv":
            table.to_csv(file, index=False)
        else:
            table.to_parquet(file, index=False)
    except OSError as error:
        raise StorageError(f"{file} cannot be written: {error.strerror}.") from error


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

    @property
    def going_on(self) -> str:
        """How to go on with a study that was stopped, for each face."""
        return either(
            f"mw.studies.resume({str(self.path)!r})",
            f"millwright study {shlex.quote(str(self.path))}",
        )

    @property
    def finished(self) -> bool:
        """Whether the runs of all models have come to their end."""
        for model in self.read().models:
            record = self.path / "runs" / model / "run.json"
            try:
                if not json.loads(record.read_text("utf-8"))["complete"]:
                    return False
            except (OSError, ValueError, LookupError, TypeError):
                return False
        return True

    def check(self, replace: bool) -> None:
        """Refuse a place that is taken by something else than a study that may go.

        Raises
        ------
        StorageError
            If something is in the way.
        """
        check_new(self.path, replace)
        if self.path.exists():
            if not (self.path / STUDY_FILE).is_file():
                raise StorageError(
                    f"{self.path} is not a stored study, so it is not replaced. Choose another "
                    "folder."
                )
            refuse_links(self.path)

    def begin(self, study: StoredStudy, replace: bool) -> None:
        """Write the study, without runs.

        Raises
        ------
        StorageError
            If something is in the way, or the disk cannot be written.
        ArgumentError
            If a setting cannot be written.
        """
        self.write(study, lambda folder: None, replace)

    def write(
        self, study: StoredStudy, fill: Callable[[StudyFolder], None], replace: bool
    ) -> None:
        """Write the study with what `fill` adds; an old one goes when the new one is whole.

        Raises
        ------
        StorageError
            If something is in the way, or the disk cannot be written.
        ArgumentError
            If a setting cannot be written.
        """
        self.check(replace)
        text = _described(study)
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            aside = Path(tempfile.mkdtemp(prefix=f".{self.path.name}-", dir=self.path.parent))
            try:
                study.data.to_parquet(aside / "data.parquet", index=False)
                write_whole(aside / STUDY_FILE, lambda file: file.write(text.encode()))
                fill(StudyFolder(aside))
                if self.path.exists():
                    shutil.rmtree(self.path)
                aside.chmod(0o755)
                os.replace(aside, self.path)
            except BaseException:
                shutil.rmtree(aside, ignore_errors=True)
                raise
        except StorageError:
            raise
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


def _described(study: StoredStudy) -> str:
    """Return the content of study.json."""
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
        return json.dumps(content, indent=2)
    except TypeError as error:
        raise ArgumentError(
            f"A stored study holds plain settings only: {error}. Fit without {setting('save')}, "
            "or give them as text and numbers."
        ) from error
