"""When and with which versions something was computed."""

from __future__ import annotations

import datetime
import functools
import platform
from importlib.metadata import version

__all__ = ["now", "versions"]


def now() -> str:
    """Return the time, for the record."""
    return datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")


def versions() -> dict[str, str]:
    """Return the versions of what computes."""
    return dict(_versions())


@functools.cache
def _versions() -> dict[str, str]:
    # Reading them from disk takes longer than many a fit.
    names = ("millwright", "jax", "numpy", "scipy")
    return {
        **{name: version(name) for name in names},
        "python": platform.python_version(),
        "processor": platform.machine(),
    }
