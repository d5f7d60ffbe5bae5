"""One process at a time in a run folder."""

from __future__ import annotations

from pathlib import Path

from filelock import FileLock, Timeout

from millwright.errors import StorageError
from millwright.storage.own_files import refuse_links

__all__ = ["locked"]


def locked(path: Path) -> FileLock:
    """Lock a run folder; the system lets go of the lock when the process ends, however it does.

    Raises
    ------
    StorageError
        If another process holds the lock, or the folder holds a link.
    """
    refuse_links(path)
    lock = FileLock(path / "lock")
    try:
        lock.acquire(timeout=0)
    except Timeout:
        raise StorageError(
            f"{path} is in use: another fit is writing to it. Wait for it, or stop it first."
        ) from None
    except OSError as error:
        raise StorageError(f"{path} cannot be locked: {error.strerror}.") from error
    return lock
