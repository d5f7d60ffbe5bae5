"""How functions of single steps are compiled: once, kept on disk, without the lock of Python."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from numba import njit

__all__ = ["compiled"]

Function = TypeVar("Function", bound=Callable[..., Any])


def compiled(function: Function) -> Function:
    """Return a function that is compiled when it is first called."""
    how: dict[str, Any] = {"nogil": True, "error_model": "numpy", "fastmath": {"contract"}}
    try:
        made: Function = njit(cache=True, **how)(function)
    except RuntimeError:
        # Neither beside the package nor in the user's folder anything can be kept.
        made = njit(**how)(function)
    return made
