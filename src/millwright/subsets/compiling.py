"""How functions of single steps are compiled: once, kept on disk, without the lock of Python."""

from __future__ import annotations

from numba import njit

__all__ = ["compiled"]

compiled = njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
