"""Programs whose data are cut between several devices."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from typing import Any

__all__ = ["mesh_of", "over_devices"]

# Programs that wait for each other's parts on the same devices must not start in another order on
# each of them: one runs at a time.
_turn = threading.Lock()


def mesh_of(leaves: Sequence[Any]) -> Any:
    """Return the devices, as a mesh, that some of these arrays are cut between; None for one."""
    for leaf in leaves:
        placed = getattr(leaf, "sharding", None)
        if placed is not None and len(placed.device_set) > 1:
            return placed.mesh
    return None


def over_devices(
    function: Callable[..., Any],
    mesh: Any,
    arguments: tuple[Any, ...],
    finish: Callable[[Any], Callable[..., Any]],
) -> Callable[..., Any]:
    """Compile a function for arguments of which some are cut between devices.

    All others, and all results, are whole on each of them.

    Parameters
    ----------
    function
        Traceable by JAX.
    mesh
        The devices.
    arguments
        Examples, in any nesting; those that are cut already say how.
    finish
        Compiles what was lowered.
    """
    import jax
    from jax.sharding import NamedSharding, PartitionSpec

    whole = NamedSharding(mesh, PartitionSpec())

    def placed(tree: Any) -> Any:
        return jax.tree.map(
            lambda leaf: leaf if mesh_of([leaf]) is not None else jax.device_put(leaf, whole), tree
        )

    program = finish(jax.jit(function, out_shardings=whole).lower(*placed(arguments)))

    def run(*given: Any) -> Any:
        with _turn:
            return jax.block_until_ready(program(*placed(given)))

    return run
