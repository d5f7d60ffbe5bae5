"""What a compiled program is made from, as a digest that is the same in every process."""

from __future__ import annotations

import functools
import hashlib
import os
import platform
import time
from collections.abc import Callable, Iterator, Mapping
from dataclasses import fields, is_dataclass
from enum import Enum
from pathlib import Path
from types import FunctionType
from typing import Any

import numpy as np

__all__ = ["UnknownContentError", "content_digest", "text_digest"]

_LIBRARY = Path(__file__).parents[1]
_OURS = f"{_LIBRARY.name}."
_LOADED, _LOADING = time.time(), 5.0
"""When this was loaded, and how many seconds before the first of the sources may have been."""


class UnknownContentError(Exception):
    """Something, such as a function of the user's own, has content that cannot be read here."""


def content_digest(*values: Any) -> str:
    """Return a digest of values by content, of this library's sources, and of what it runs on.

    Equal digests mean equal programs. Equal programs may have different digests (1 and 1.0 are
    told apart), which costs a compilation.

    Raises
    ------
    UnknownContentError
        If a value is, or holds, something else than numbers, texts, arrays, containers, and this
        library's own classes and functions.
    """
    digest = hashlib.sha256(_sources() + _compiler())
    for value in values:
        for piece in _pieces(value):
            digest.update(piece)
    return digest.hexdigest()


def text_digest(text: str, options: Mapping[str, Any]) -> str:
    """Return a digest of a program's text, as it goes to the compiler with these options."""
    asked = repr(sorted(options.items())).encode()
    return hashlib.sha256(_compiler() + asked + text.encode()).hexdigest()


def _compiler() -> bytes:
    """Return a digest of the versions and settings under which a program is compiled."""
    import jax
    import jaxlib.version
    import scipy

    packages = (jax, jaxlib.version, np, scipy)
    versions = tuple(package.__version__ for package in packages)
    settings = sorted((name, repr(value)) for name, value in jax.config.values.items())
    flags = os.environ.get("XLA_FLAGS")
    devices = [(device.platform, device.device_kind) for device in jax.local_devices()]
    whole = repr((versions, platform.python_version(), settings, flags, devices))
    return hashlib.sha256(whole.encode()).digest()


def _pieces(value: Any) -> Iterator[bytes]:
    """Yield bytes that say a value in full; each kind says how much belongs to it."""
    kind = type(value)
    if value is None or kind in (bool, int, float, str, bytes):
        text = repr(value).encode("utf-8", "backslashreplace")
        yield b"%s %d " % (kind.__name__.encode(), len(text))
        yield text
    elif kind in (tuple, list):
        yield b"%s %d " % (kind.__name__.encode(), len(value))
        for each in value:
            yield from _pieces(each)
    elif kind in (set, frozenset):
        yield b"set %d " % len(value)
        yield from sorted(b"".join(_pieces(each)) for each in value)
    elif kind is dict:
        yield b"dict %d " % len(value)
        for pair in value.items():
            yield from _pieces(pair)
    elif isinstance(value, np.ndarray | np.generic) and value.dtype.kind in "biufcSU":
        yield f"array {value.dtype.str} {value.shape} ".encode()
        yield np.ascontiguousarray(value).tobytes()
    else:
        yield from _own_pieces(value, kind)


def _own_pieces(value: Any, kind: type) -> Iterator[bytes]:
    """Yield the bytes of what this library defines."""
    if isinstance(value, FunctionType | type):
        yield _name_of(value)
        return
    yield _name_of(kind)
    if isinstance(value, Enum):
        yield from _pieces(value.name)
    elif is_dataclass(value):
        for field in fields(value):
            yield from _pieces(getattr(value, field.name))
    elif isinstance(value, str) and not hasattr(value, "__dict__"):
        yield from _pieces(str(value))
    elif isinstance(value, tuple) and not hasattr(value, "__dict__"):
        yield from _pieces(tuple(value))
    else:
        raise UnknownContentError(f"{kind.__module__}.{kind.__qualname__}")


def _name_of(defined: Callable[..., Any] | type) -> bytes:
    """Return the name of a class or function whose source this library holds."""
    module, name = defined.__module__, defined.__qualname__
    # What is defined in a text that is executed may be of no module.
    if not str(module).startswith(_OURS) or "<" in name:
        raise UnknownContentError(f"{module}.{name}")
    return f"{module}:{name} ".encode()


def _sources() -> bytes:
    """Return a digest of this library's sources, if they are those that this process runs."""
    files, digest = _sources_read()
    try:
        newest = max(os.stat(file).st_mtime for file in files)
    except OSError:
        newest = _LOADED
    if newest > _LOADED - _LOADING:
        raise UnknownContentError("sources that were changed while this process ran")
    return digest


@functools.cache
def _sources_read() -> tuple[list[str], bytes]:
    """Return the files of the sources, and a digest of what they hold."""
    files = sorted(_LIBRARY.rglob("*.py"))
    digest = hashlib.sha256()
    for file in files:
        digest.update(str(file.relative_to(_LIBRARY)).encode())
        digest.update(hashlib.sha256(file.read_bytes()).digest())
    return list(map(str, files)), digest.digest()
