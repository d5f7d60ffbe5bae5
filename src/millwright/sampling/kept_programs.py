"""Compiled programs on disk: a later process that needs the same one compiles nothing.

A program is kept under a digest of its text, as it goes to the compiler. What it was made from
leads to that digest, so that a process which makes the same again does not even trace it.
"""

from __future__ import annotations

import functools
import hashlib
import os
import pickle
import platform
import tempfile
import zlib
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from platformdirs import user_cache_path

__all__ = ["Origin", "keep_origin", "keep_program", "kept_program", "origin_of"]

_MOST_BYTES = 512 * 2**20
"""Of programs; beyond it, those that were not used for longest are dropped."""
_FAST = 1
_CANNOT_BE_READ = (pickle.UnpicklingError, AttributeError, ImportError, ValueError, zlib.error)


@dataclass(frozen=True)
class Origin:
    """What is known of a program before it is compiled.

    Attributes
    ----------
    text
        Digest of its text and of what the compiler is asked for; None for one that holds for this
        process alone.
    arguments, results
        How they are nested.
    shares
        Whether it shares out batches of matrices between threads.
    factorises
        Whether it calls LAPACK.
    """

    text: str | None
    arguments: Any
    results: Any
    shares: bool
    factorises: bool


def origin_of(content: str) -> Origin | None:
    """Return what was made from this by an earlier process, if there was one."""
    whole = _read(_folder() / "made-from" / content)
    try:
        return None if whole is None else Origin(**pickle.loads(whole))
    except _CANNOT_BE_READ:
        return None


def keep_origin(content: str, origin: Origin) -> None:
    """Remember what is made from this."""
    _write(_folder() / "made-from" / content, pickle.dumps(vars(origin)))


def kept_program(origin: Origin) -> Callable[..., Any] | None:
    """Return a kept program; None if it is not there.

    One that cannot be loaded counts as not there, and is replaced.
    """
    import jax
    from jax.experimental.serialize_executable import deserialize_and_load

    whole = None if origin.text is None else _read(_folder() / "programs" / origin.text)
    if whole is None:
        return None
    if origin.factorises:
        _find_lapack()
    first = jax.local_devices()[:1]
    try:
        program: Callable[..., Any] = deserialize_and_load(
            zlib.decompress(whole), origin.arguments, origin.results, execution_devices=first
        )
    except (*_CANNOT_BE_READ, jax.errors.JaxRuntimeError):
        return None
    return program


def keep_program(origin: Origin, program: Any) -> None:
    """Keep a program that was compiled in this process, if it holds for others."""
    from jax.experimental.serialize_executable import serialize

    if origin.text is None:
        return
    payload, _, _ = serialize(program)
    _write(_folder() / "programs" / origin.text, zlib.compress(payload, _FAST))


@functools.cache
def _find_lapack() -> None:
    """Let JAX look up the functions of LAPACK, as it does when it lowers what calls one.

    A program that is loaded before would call nowhere.
    """
    import jax
    import jax.numpy as jnp

    jax.jit(jnp.linalg.cholesky).lower(jnp.eye(2))


def _read(file: Path) -> bytes | None:
    """Return what a file holds, whole; None if it is not there or is broken off."""
    try:
        stored = file.read_bytes()
    except OSError:
        return None
    # When it was used last; nobody can tell, and none is dropped, where nothing can be written.
    with suppress(OSError):
        os.utime(file)
    digest, whole = stored[:32], stored[32:]
    return whole if hashlib.sha256(whole).digest() == digest else None


def _write(file: Path, whole: bytes) -> None:
    """Write a file at once; a folder that cannot be written to keeps nothing."""
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        if file.name.startswith("0"):
            # One of sixteen digests: looking through all takes longer than writing one.
            _make_room(file.parent)
        with tempfile.NamedTemporaryFile(dir=file.parent, delete=False) as beside:
            beside.write(hashlib.sha256(whole).digest() + whole)
        os.replace(beside.name, file)
    except OSError:
        return


def _make_room(folder: Path) -> None:
    """Drop from a folder what was not used for longest."""
    with os.scandir(folder) as files:
        found = [(file.stat(), file.path) for file in files]
    excess = sum(status.st_size for status, _ in found) - _MOST_BYTES
    for status, path in sorted(found, key=lambda each: each[0].st_mtime):
        if excess <= 0:
            break
        Path(path).unlink(missing_ok=True)
        excess -= status.st_size


@functools.cache
def _folder() -> Path:
    """Return a folder of its own for each kind of processor: compiled code is not portable."""
    try:
        lines = Path("/proc/cpuinfo").read_text(encoding="utf-8").splitlines()
        processor = next((line for line in lines if line.startswith(("flags", "Features"))), "")
    except OSError:
        processor = platform.processor()
    kind = hashlib.sha256(f"{platform.machine()} {processor}".encode()).hexdigest()[:12]
    return user_cache_path("millwright") / "compiled" / kind
