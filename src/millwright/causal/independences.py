"""Independences that a graph implies, each with a smallest set that brings it about."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations

from millwright.causal.graph import Graph
from millwright.causal.separators import minimal_separators

__all__ = ["Independence", "independences"]

_MOST = 200


@dataclass(frozen=True)
class Independence:
    """Two nodes that are independent given others."""

    first: str
    second: str
    given: frozenset[str]

    @property
    def words(self) -> str:
        """In words."""
        names = ", ".join(f"`{one}`" for one in sorted(self.given))
        return f"`{self.first}` and `{self.second}` are independent" + (
            f" given {names}" if names else ""
        )


def independences(graph: Graph) -> list[Independence]:
    """Return one for each pair of observed nodes that some set separates (Pearl 2009, 1.2.3)."""
    found = []
    for first, second in combinations(graph.observed, 2):
        if graph.network.has_edge(first, second) or graph.network.has_edge(second, first):
            continue
        sets = minimal_separators(graph.network, first, second, graph.observed, _MOST)
        if sets:
            found.append(Independence(first, second, sets[0]))
    return found
