"""Compilation with JAX: once per function, target and shapes, kept on disk between processes.

Executables are held to one thread each, since chains run side by side, and so that results do
not depend on the number of cores. JAX takes about a second to load, so it is loaded with the
first function that is compiled: stored results are read without it.
"""

from __future__ import annotations

import functools
import re
import threading
from collections.abc import Callable, Hashable, Mapping
from typing import Any

import numpy as np

from millwright.sampling.batched_algebra import in_turn, shares_batches
from millwright.sampling.content import UnknownContentError, content_digest, text_digest
from millwright.sampling.kept_programs import (
    Origin,
    keep_origin,
    keep_program,
    kept_program,
    origin_of,
)
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
            options = {**_OPTIONS, _EMITTERS: numbers > _FEW_NUMBERS}
            inner = functools.partial(function, static)
            if mesh is not None:
                finish = functools.partial(_finished, options=options)
                _executables[key] = over_devices(inner, mesh, arguments, finish)
                return _executables[key]
            made_from = (function, static, str(structure), shapes, options)
            _executables[key] = _program(made_from, inner, arguments, options)
        return _executables[key]


def _program(
    made_from: tuple[Any, ...],
    function: Callable[..., Any],
    arguments: tuple[Any, ...],
    options: Mapping[str, Any],
) -> Callable[..., Any]:
    """Return the program that an earlier process kept, or make it."""
    content = _digest(made_from)
    origin = None if content is None else origin_of(content)
    program = None if origin is None else kept_program(origin)
    if origin is None or program is None:
        lowered, origin = _lowered(function, arguments, options)
        program = kept_program(origin)
        if program is None:
            program = _finished(lowered, options)
            keep_program(origin, program)
        if content is not None:
            keep_origin(content, origin)
    return in_turn(program) if origin.shares else program


def _digest(made_from: tuple[Any, ...]) -> str | None:
    """Return a digest of what a program is made from, if it can be told and is asked for."""
    try:
        return content_digest(*made_from) if _keeping() else None
    except UnknownContentError:
        return None


def _keeping() -> bool:
    """Whether programs are kept here.

    The user may have arranged for JAX to keep them, for another device than the first, or for
    constants that stand outside of programs, where they are not written down.
    """
    import jax

    own = (
        "jax_compilation_cache_dir",
        "jax_default_device",
        "jax_use_simplified_jaxpr_constants",
    )
    return not any(getattr(jax.config, name, None) for name in own)


def _lowered(
    function: Callable[..., Any], arguments: tuple[Any, ...], options: Mapping[str, Any]
) -> tuple[Any, Origin]:
    """Return a traced function as it goes to the compiler, and what is known of it by then."""
    import jax

    # Arguments that are not used stay in the text: without them it would not say which are.
    traced = jax.jit(function, keep_unused=True).trace(*arguments)
    lowered = traced.lower()
    text = lowered.as_text() if _keeping() else ""
    called = set(re.findall(r"custom_call @([\w.$]+)", text))
    factorises = {name for name in called if name.startswith("lapack_")}
    # Others, such as a call back into Python, hold for this process alone.
    lasting = bool(text) and all(name.startswith("mhlo.") for name in called - factorises)
    return lowered, Origin(
        text=text_digest(text, options) if lasting else None,
        arguments=lowered.in_tree,
        results=lowered.out_tree,
        shares=shares_batches(traced.jaxpr),
        factorises=bool(factorises),
    )


def _finished(lowered: Any, options: Mapping[str, Any]) -> Callable[..., Any]:
    """Return what was lowered as an executable."""
    import jax

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
