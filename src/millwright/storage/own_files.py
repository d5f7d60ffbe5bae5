"""Files of a run that stay inside it, whatever a folder from a stranger holds.

A link in a run folder could point anywhere, and writing through it would overwrite what is there.
Runs hold no links: a folder that does is neither read nor written, and every file is made anew
beside its place and then renamed.
"""

from __future__ import annotations

import os
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import IO

from millwright.errors import StorageError

__all__ = ["refuse_links", "unpack", "write_whole"]

_MOST_TIMES = 50
_FREE_BYTES = 50_000_000
_MOST_FILES = 100_000


def refuse_links(folder: Path) -> None:
    """Refuse a run folder that holds a symbolic link.

    The folder itself may be reached by one.

    Raises
    ------
    StorageError
        Which names the link.
    """
    for place, folders, files in os.walk(folder):
        for name in (*folders, *files):
            if os.path.islink(os.path.join(place, name)):
                raise StorageError(
                    f"{Path(place, name)} is a symbolic link. A run holds none, and one from "
                    "elsewhere could make this program read or overwrite other files: remove it, "
                    "or take the run from where it was made."
                )


def write_whole(path: Path, write: Callable[[IO[bytes]], object]) -> None:
    """Write a file so that it is there whole or not at all.

    The new file is created beside its place, never opened through what lies there.
    """
    aside = path.with_suffix(".aside")
    aside.unlink(missing_ok=True)
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0)
    try:
        with os.fdopen(os.open(aside, flags | getattr(os, "O_BINARY", 0), 0o666), "wb") as file:
            write(file)
            file.flush()
            os.fsync(file.fileno())
        os.replace(aside, path)
    except BaseException:
        aside.unlink(missing_ok=True)
        raise


def unpack(packed: zipfile.ZipFile, folder: Path, size: int) -> None:
    """Unpack a run, unless it would fill the disk.

    Parameters
    ----------
    size
        Bytes of the packed file.

    Raises
    ------
    StorageError
        If it would grow to far more than runs do, or holds a link.
    """
    whole = sum(member.file_size for member in packed.infolist())
    if whole > _FREE_BYTES + _MOST_TIMES * size or len(packed.infolist()) > _MOST_FILES:
        raise StorageError(
            f"The packed run would grow to {whole / 1e6:.0f} MB in {len(packed.infolist())} "
            "files, far more than runs do; it is not unpacked."
        )
    packed.extractall(folder)
    refuse_links(folder)
