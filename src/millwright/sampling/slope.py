"""The gradient of a log density, traced once for all programs of a process that it is part of."""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import Any

__all__ = ["value_and_gradient"]


def value_and_gradient(
    log_density: Callable[[Any, Any], Any], position: Any, arguments: Any
) -> Any:
    """Return log density and gradient; to be compiled, by itself or as a part of more.

    Parameters
    ----------
    log_density
        Of a position and arguments; compared by content.
    position
        Traced, of shape (dimension,).
    arguments
        The data, arrays in any nesting.
    """
    return _traced()(log_density, position, arguments)


@functools.cache
def _traced() -> Callable[..., Any]:
    """Return the function that JAX remembers; what it was traced to becomes part of its caller."""
    import jax

    def both(log_density: Callable[[Any, Any], Any], position: Any, arguments: Any) -> Any:
        return jax.value_and_grad(lambda q: log_density(q, arguments))(position)

    return jax.jit(both, static_argnums=0, inline=True)
