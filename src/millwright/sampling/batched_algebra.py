"""Programs with batches of matrices: not as many at a time as the compiler has threads.

The compiler's runtime runs each program on a thread of its pool, and shares a batch of
factorisations out among the threads of the same pool. Where programs that wait for theirs hold
every thread, none is left to do the work, and all stand still for good.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from typing import Any

from millwright.cores import available_cores

__all__ = ["in_turn", "shares_batches"]

_SHARED = frozenset(
    {
        "cholesky",
        "cholesky_update",
        "eig",
        "eigh",
        "geqrf",
        "hessenberg",
        "householder_product",
        "lu",
        "schur",
        "svd",
        "triangular_solve",
        "tridiagonal",
    }
)
# One thread is left for the work that the others wait for.
_turns = threading.BoundedSemaphore(max(1, available_cores() - 1))


def shares_batches(jaxpr: Any) -> bool:
    """Tell whether a traced program factorises or solves several matrices at once."""
    return any(
        step.primitive.name in _SHARED and any(len(each.aval.shape) > 2 for each in step.invars)
        for step in _steps(jaxpr)
    )


def _steps(jaxpr: Any) -> Iterator[Any]:
    """Yield the operations of a program, those inside loops and calls too."""
    for step in getattr(jaxpr, "jaxpr", jaxpr).eqns:
        yield step
        for value in step.params.values():
            for inner in value if isinstance(value, tuple | list) else (value,):
                if hasattr(inner, "eqns") or hasattr(inner, "jaxpr"):
                    yield from _steps(inner)


def in_turn(program: Callable[..., Any]) -> Callable[..., Any]:
    """Return a compiled program that waits until it may run, and for its own end."""
    import jax

    def run(*arguments: Any) -> Any:
        with _turns:
            return jax.block_until_ready(program(*arguments))

    return run
