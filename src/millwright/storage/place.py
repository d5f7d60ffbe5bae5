"""Whether a run or a file may be written to a place."""

from __future__ import annotations

import shlex
from pathlib import Path

from millwright.errors import ArgumentError, StorageError
from millwright.wording import either, setting

__all__ = ["check_free", "check_new"]


def check_free(path: Path, existing: str) -> None:
    """Refuse a place that is taken.

    Parameters
    ----------
    existing
        `refuse` or `replace`: what to do if there is a run already. What is not a run is never
        replaced.

    Raises
    ------
    StorageError
        If something is in the way.
    ArgumentError
        For another value of `existing`.
    """
    if existing not in ("refuse", "replace"):
        raise ArgumentError(
            f"`existing` must be 'refuse', 'replace' or, in a fit, 'resume', not {existing!r}."
        )
    if not path.exists():
        return
    if existing == "refuse":
        raise StorageError(
            f"{path} exists already. Choose another folder, give "
            + either("existing='replace'", "--replace")
            + " to overwrite the run in it, or "
            + either("existing='resume'", f"use millwright resume {shlex.quote(str(path))}")
            + " to go on with it."
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
