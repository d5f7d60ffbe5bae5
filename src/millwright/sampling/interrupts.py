"""Ctrl-C between two pieces of work, not in the middle of one."""

from __future__ import annotations

import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from types import FrameType

__all__ = ["Held", "stops_held"]


@dataclass
class Held:
    """Whether Ctrl-C was pressed since it is held."""

    pressed: bool = False

    def check(self) -> None:
        """Raise KeyboardInterrupt if Ctrl-C was pressed."""
        if self.pressed:
            raise KeyboardInterrupt


@contextmanager
def stops_held() -> Iterator[Held]:
    """Hold back Ctrl-C until `check` is called, so that draws and states stay in step.

    A second Ctrl-C is not held back. A handler of the user's own stays in force, and so does
    the usual one in other threads than the main one.
    """
    held = Held()
    before = signal.getsignal(signal.SIGINT)
    here = threading.current_thread() is threading.main_thread()
    if not here or before is not signal.default_int_handler:
        yield held
        return

    def hold(number: int, frame: FrameType | None) -> None:
        if held.pressed:
            raise KeyboardInterrupt
        held.pressed = True

    signal.signal(signal.SIGINT, hold)
    try:
        yield held
    finally:
        signal.signal(signal.SIGINT, before)
