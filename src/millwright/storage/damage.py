"""What is said of a run of which a part is missing or cannot be read."""

from __future__ import annotations

import shlex
from pathlib import Path

from millwright.errors import StorageError
from millwright.wording import either

__all__ = ["damaged"]


def damaged(path: Path, why: str) -> StorageError:
    """Return the error that names a part of a run, and how to read what is left of its draws.

    Parameters
    ----------
    path
        The part, or the folder of which it is one.
    why
        What is wrong with it, such as `is missing`.
    """

    def _command(run: Path | None) -> str:
        return f"millwright export {shlex.quote(str(run))} draws.csv --rescue"

    run = next((above for above in path.parents if (above / "draws").is_dir()), None)
    left = run is not None and any(one != path for one in (run / "draws").glob("*.parquet"))
    remedy = " The draws that can still be read: " + either(
        f"mw.read_draws({str(run)!r}); in the shell: {_command(run)}", _command(run)
    )
    # Errors from below may end with a full stop of their own.
    said = why.replace(".)", ")")
    return StorageError(f"The run is damaged: {path} {said}.{remedy if left else ''}")
