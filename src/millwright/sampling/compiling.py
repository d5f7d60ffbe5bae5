"""Compilation with JAX: once per function, target and shapes, kept on disk between processes.

Executables are held to one thread each, since chains run side by side, and so that results do
not depend on the number of cores. JAX takes about a second to load, so it is loaded with the
first function that is compiled: stored results are read without it.
"""

from __future__ import annotations

import functools
import hashlib
import platform
import threading
from collections.abc import Callable, Hashable, Mapping
from pathlib import Path
from typing import Any

import numpy as np
from platformdirs import user_cache_path

from millwright.sampling.batched_algebra import in_turn, shares_batches
from millwright.sampling.several_devices import mesh_of, over_devices

__all__ = ["compilations", "compiled", "on_device"]

_OPTIONS: dict[str, Any] = {"xla_cpu_multi_thread_eigen": False}
_EMITTERS = "xla_cpu_use_fusion_emitters"
_FEW_NUMBERS = 2000
"""The compiler's emitters of fused loops take about as long again as all else. Without them the
code is as fast for up to about so many numbers of data, and slower for more."""

_lock = threading.Lock()
_making: dict[Hashable, threading.Lock] = {}
"""One for each function, so that two threads compile two functions side by side."""
_executables: dict[Hashable, Callable[..., Any]] = {}


def compilations() -> int:
    """Return how many functions this process has compiled so far."""
    return len(_executables)


def compiled(
    function: Callable[..., Any], static: Hashable, arguments: tuple[Any, ...]
) -> Callable[..., Any]:
    """Return `function(static, *arguments)` compiled for arguments of these shapes.

    Parameters
    ----------
    function
        Traceable by JAX; its first argument is `static`.
    static
        What the compiled code depends on; compared by content.
    arguments
        Example arguments: NumPy or JAX arrays in any nesting; the last are the data.

    Returns
    -------
    A function of the arguments.
    """
    import jax

    leaves, structure = jax.tree.flatten(arguments)
    shapes = tuple((np.shape(leaf), np.dtype(leaf.dtype).str) for leaf in leaves)
    mesh = mesh_of(leaves)
    key = (function.__module__, function.__qualname__, static, structure, shapes, mesh)
    with _lock:
        making = _making.setdefault(key, threading.Lock())
    with making:
        if key not in _executables:
            numbers = sum(map(np.size, jax.tree.leaves(arguments[-1])))
            inner = functools.partial(function, static)
            if mesh is not None:
                finish = functools.partial(_finished, numbers=numbers)
                _executables[key] = over_devices(inner, mesh, arguments, finish)
                return _executables[key]
            with _disk_cache:
                traced = jax.jit(inner).trace(*arguments)
                program = _finished(traced.lower(), numbers)
            shares = shares_batches(traced.jaxpr)
            _executables[key] = in_turn(program) if shares else program
        return _executables[key]


def _finished(lowered: Any, numbers: int) -> Callable[..., Any]:
    """Return what was lowered as an executable, for data of this many numbers together."""
    import jax

    options = {**_OPTIONS, _EMITTERS: numbers > _FEW_NUMBERS}
    try:
        program: Callable[..., Any] = lowered.compile(compiler_options=options)
    except jax.errors.JaxRuntimeError as error:
        # A later version of the compiler may drop the option.
        if _EMITTERS not in str(error):
            raise
        program = lowered.compile(compiler_options=_OPTIONS)
    return program


def on_device(arguments: Any) -> Any:
    """Return arrays, in any nesting, as compiled functions take them without copying."""
    import jax

    return jax.device_put(arguments)


class _DiskCache:
    """Lets JAX keep what is compiled inside on disk, unless the user has arranged that already.

    The settings are put back by the last thread that leaves: the rest of the user's process is not
    affected.
    """

    def __init__(self) -> None:
        self.inside = 0
        self.before: dict[str, Any] = {}

    def __enter__(self) -> None:
        import jax

        with _lock:
            self.inside += 1
            own = getattr(jax.config, "jax_compilation_cache_dir", None) is not None
            if self.inside > 1 or own:
                return
            settings = {
                "jax_compilation_cache_dir": str(_cache_folder()),
                "jax_persistent_cache_min_compile_time_secs": 0.0,
            }
            self.before = {name: getattr(jax.config, name) for name in settings}
            _configure(settings)

    def __exit__(self, *error: object) -> None:
        with _lock:
            self.inside -= 1
            if not self.inside and self.before:
                _configure(self.before)
                self.before = {}


def _configure(settings: Mapping[str, Any]) -> None:
    import jax
    from jax.experimental.compilation_cache import compilation_cache

    for name, value in settings.items():
        jax.config.update(name, value)
    compilation_cache.reset_cache()


_disk_cache = _DiskCache()


@functools.cache
def _cache_folder() -> Path:
    """Return a folder of its own for each kind of processor: compiled code is not portable."""
    try:
        lines = Path("/proc/cpuinfo").read_text(encoding="utf-8").splitlines()
        processor = next((line for line in lines if line.startswith(("flags", "Features"))), "")
    except OSError:
        processor = platform.processor()
    kind = hashlib.sha256(f"{platform.machine()} {processor}".encode()).hexdigest()[:12]
    return user_cache_path("millwright") / "compiled" / kind
