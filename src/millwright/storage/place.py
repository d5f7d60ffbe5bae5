"""Whether a run or a file may be written to a place."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path

from millwright.errors import ArgumentError, StorageError
from millwright.wording import action, setting

__all__ = ["STUDY_FILE", "RunPlace", "check_free", "check_new", "run_in"]

STUDY_FILE = "study.json"
"""What makes a folder that of a study, with the runs of its models inside."""


@dataclass(frozen=True)
class RunPlace:
    """The folder of a run that a fit writes, and what to do with a run that is there.

    Raises
    ------
    ArgumentError
        For both `replace` and `resume`.
    StorageError
        If something is in the way.
    """

    path: Path
    replace: bool = False
    resume: bool = False

    def __post_init__(self) -> None:
        if self.replace and self.resume:
            raise ArgumentError(
                "Give either `replace` or `resume`: a run is overwritten, or gone on with."
            )
        # Better said before the sampling than after it.
        if not self.goes_on:
            check_free(self.path, self.replace)

    @property
    def goes_on(self) -> bool:
        """Whether there is a run to go on with."""
        return self.resume and self.path.exists()


def check_free(path: Path, replace: bool) -> None:
    """Refuse a place for a run that is taken.

    Parameters
    ----------
    replace
        Whether a run that is there makes way. What is not a run is never replaced.

    Raises
    ------
    StorageError
        If something is in the way.
    """
    if not path.exists():
        return
    if not replace:
        raise StorageError(
            f"{path} exists already. Choose another folder, give {setting('replace', True)} to "
            f"overwrite the run in it, or go on with it by {action('resume', str(path))}."
        )
    if not (path / "run.json").is_file():
        raise StorageError(f"{path} is not a run, so it is not replaced. Choose another folder.")


def check_new(path: Path, replace: bool) -> None:
    """Refuse to overwrite a file unless `replace` says so.

    Raises
    ------
    StorageError
        If it is there.
    """
    if path.exists() and not replace:
        raise StorageError(
            f"{path} exists already; give {setting('replace', True)} to overwrite it."
        )


def run_in(path: Path) -> Path:
    """Return the folder of a run: of a stored study, that of the model that gives its answer."""
    if (path / "run.json").is_file() or not (path / STUDY_FILE).is_file():
        return path
    try:
        first = json.loads((path / STUDY_FILE).read_text("utf-8"))["models"][0]
    except (OSError, ValueError, LookupError, TypeError) as error:
        raise StorageError(f"{path / STUDY_FILE} cannot be read: {error}.") from error
    return path / "runs" / Path(str(first)).name
