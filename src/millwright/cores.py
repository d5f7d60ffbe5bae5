"""Cores: how many there are, and one for linear algebra while small matrices are worked on."""

from __future__ import annotations

import os
import sys
import threading
from contextlib import ContextDecorator
from typing import Any

from threadpoolctl import ThreadpoolController

__all__ = ["available_cores", "one_thread"]


def available_cores() -> int:
    """Return how many cores this process may use."""
    if hasattr(os, "sched_getaffinity"):
        return len(os.sched_getaffinity(0))
    return os.cpu_count() or 1


class _OneThread(ContextDecorator):
    """Holds BLAS and LAPACK to one thread, as a decorator or in a `with` statement.

    Threads share the work of one matrix, and wait for each other at every step of it. Where
    another process is busy, that takes 20 times as long for a matrix of 60 rows, and 160 times for
    one of 400. The library's own threads each have a chain or a draw to themselves.

    What was set before comes back when the thread that came first leaves: a library of linear
    algebra may obey no other thread but the one that first set its number.
    """

    def __init__(self) -> None:
        self.lock = threading.Lock()
        self.first: int | None = None
        self.depth = 0
        self.limits: list[Any] = []
        self.found: tuple[int, ThreadpoolController] | None = None

    def __enter__(self) -> None:
        with self.lock:
            if self.first is None:
                self.first = threading.get_ident()
            if self.first == threading.get_ident():
                self.depth += 1
                self.limits.append(self._controller().limit(limits=1, user_api="blas"))

    def __exit__(self, *error: object) -> None:
        with self.lock:
            if self.first != threading.get_ident():
                return
            self.depth -= 1
            if not self.depth:
                self.first = None
                while self.limits:
                    self.limits.pop().restore_original_limits()

    def _controller(self) -> ThreadpoolController:
        """Return what holds the libraries that are loaded.

        Finding them takes 2 ms, and many times that in a process that has compiled much: they are
        looked for again where modules were imported since, which may have brought one.
        """
        modules = len(sys.modules)
        if self.found is None or self.found[0] != modules:
            self.found = modules, ThreadpoolController()
        return self.found[1]


one_thread = _OneThread()
