"""Paths between two nodes: causal or not, open or blocked, and by what."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from itertools import islice, pairwise

import networkx as nx

from millwright.causal.graph import Graph

__all__ = ["Path", "paths_between"]

MOST = 500


@dataclass(frozen=True, kw_only=True)
class Path:
    """A path between exposure and outcome.

    Attributes
    ----------
    nodes
        From the exposure to the outcome.
    words
        With its arrows.
    kind
        `causal`: along the arrows. `back-door`: begins with an arrow into the exposure. `other`:
        leaves the exposure along an arrow, and meets one head to head.
    blocked_by
        Nodes that block it: such that are adjusted for, and such where arrows meet head to head
        and that, with their effects, are not.
    """

    nodes: tuple[str, ...]
    words: str
    kind: str
    blocked_by: tuple[str, ...]

    @property
    def open(self) -> bool:
        """Whether association runs along it."""
        return not self.blocked_by


def paths_between(
    graph: Graph, exposure: str, outcome: str, given: Iterable[str] = (), most: int = MOST
) -> list[Path]:
    """Return the paths without a node twice, causal ones first, at most so many."""
    chosen = set(given)
    skeleton = graph.network.to_undirected()
    every = islice(nx.all_simple_paths(skeleton, exposure, outcome), most)
    found = [_path(graph, tuple(nodes), chosen) for nodes in every]
    order = ("causal", "back-door", "other")
    return sorted(found, key=lambda path: (order.index(path.kind), len(path.nodes), path.words))


def _path(graph: Graph, nodes: tuple[str, ...], given: set[str]) -> Path:
    forward = [graph.network.has_edge(a, b) for a, b in pairwise(nodes)]
    words = nodes[0]
    for along, node in zip(forward, nodes[1:], strict=True):
        words += f" {'->' if along else '<-'} {node}"
    blocked = []
    for at in range(1, len(nodes) - 1):
        node, meets = nodes[at], forward[at - 1] and not forward[at]
        below = graph.descendants([node])
        if (meets and not below & given) or (not meets and node in given):
            blocked.append(node)
    kind = "causal" if all(forward) else "other" if forward[0] else "back-door"
    return Path(nodes=nodes, words=words, kind=kind, blocked_by=tuple(blocked))
