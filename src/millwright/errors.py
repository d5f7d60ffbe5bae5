"""Every error that Millwright raises on purpose.

MillwrightError
├── ArgumentError (ValueError)       a call with an argument that makes no sense
├── LanguageError (ValueError)       a definition that cannot be read
├── ModelError (ValueError)          definitions that do not fit together
├── DataError (ValueError)           data that do not fit the model
├── UnknownLabelError (KeyError)     a label or quantity that is not there
├── StartError (ValueError)          no starting point with a finite density
├── SamplingError (RuntimeError)     a method that cannot give right draws here
├── WorkerError (RuntimeError)       workers that cannot be used, or died
└── StorageError (OSError)           a file or run that is missing, damaged or in the way
Interrupted (KeyboardInterrupt)      Ctrl-C during a fit; carries what was sampled

`Interrupted` is not a `MillwrightError`: code that catches ordinary errors must not carry on
with half a fit.
"""

from __future__ import annotations

import difflib
from collections.abc import Callable, Iterable

from millwright.wording import for_python, visible

__all__ = [
    "ArgumentError",
    "DataError",
    "Interrupted",
    "LanguageError",
    "MillwrightError",
    "ModelError",
    "SamplingError",
    "StartError",
    "StorageError",
    "UnknownLabelError",
    "WorkerError",
    "nearest",
    "with_caret",
]


class MillwrightError(Exception):
    """Base of all errors raised by this library.

    Its text is worded for Python; `told(word)` words what to do for another face.
    """

    def __str__(self) -> str:
        return self.told(for_python)

    @property
    def marked(self) -> str:
        """The message with what to do as marked pieces, to stand in another message."""
        return str(self.args[0]) if self.args else ""

    def told(self, word: Callable[[str], str]) -> str:
        """Return the message with advice worded by a face."""
        return visible(word(self.marked), keep="\n")


class ArgumentError(MillwrightError, ValueError):
    """A call was given an argument that makes no sense."""


class LanguageError(MillwrightError, ValueError):
    """The text or function of a definition cannot be read."""


class ModelError(MillwrightError, ValueError):
    """The definitions of a model do not fit together."""


class DataError(MillwrightError, ValueError):
    """The data do not fit the model."""


class UnknownLabelError(MillwrightError, KeyError):
    """A label or a quantity was asked for that does not exist."""


class StartError(MillwrightError, ValueError):
    """No starting point with a finite log density and gradient was found."""


class SamplingError(MillwrightError, RuntimeError):
    """A method of sampling found that it cannot give right draws of this target."""


class WorkerError(MillwrightError, RuntimeError):
    """Worker processes cannot be used for this model, or died too often."""


class StorageError(MillwrightError, OSError):
    """A file or a stored run is missing, damaged, or in the way."""


class Interrupted(KeyboardInterrupt):
    """A fit was stopped by Ctrl-C.

    Attributes
    ----------
    posterior
        The posterior from the draws finished so far, or None if warm-up was not over.
    """

    def __init__(self, message: str, posterior: object | None = None) -> None:
        super().__init__(message)
        self.posterior = posterior

    def __str__(self) -> str:
        return for_python(str(self.args[0]))


def nearest(name: object, known: Iterable[str]) -> str:
    """Return the end of a message that names the known words nearest to `name`, or ''."""
    close = difflib.get_close_matches(str(name), list(known), n=2, cutoff=0.6)
    return f" Did you mean {' or '.join(f'`{word}`' for word in close)}?" if close else ""


def with_caret(message: str, where: str, text: str, start: int, end: int) -> str:
    """Return `message` followed by the definition's text with carets under [start, end)."""
    lines = text.split("\n")
    row, begin = 0, start
    while row < len(lines) - 1 and begin > len(lines[row]):
        begin -= len(lines[row]) + 1
        row += 1
    width = max(1, min(end - start, len(lines[row]) - begin))
    shown, begin = _window(lines[row], begin)
    return (
        f"{message}\n  {where}: {shown}\n  {' ' * (len(where) + 2 + begin)}{'^' * min(width, 60)}"
    )


def _window(line: str, begin: int, width: int = 90) -> tuple[str, int]:
    """Cut a long line so that the place stays visible; return it and the place's new column."""
    if len(line) <= width:
        return line, begin
    cut = max(0, begin - width // 2)
    head = "..." if cut else ""
    tail = "..." if cut + width < len(line) else ""
    return head + line[cut : cut + width] + tail, begin - cut + len(head)
