"""All minimal sets that separate two nodes of a directed acyclic graph.

Two nodes are d-separated by a set exactly if it separates them in the moral graph of their
ancestors and its own (Lauritzen et al. 1990), and a minimal set holds ancestors of the two only
(van der Zander, Liskiewicz and Textor 2019, "Separators and adjustment sets in causal graphs",
Artificial Intelligence 270). What may not be in a set is eliminated from the moral graph, its
neighbours joined. Minimal separators are listed one from another, each by a vertex that moves to
the near side (Shen and Liang 1997; Takata 2010), in polynomial time for each.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable

import networkx as nx

__all__ = ["minimal_separators"]

MOST = 2000


def minimal_separators(
    network: nx.DiGraph, one: str, other: str, allowed: Iterable[str], most: int = MOST
) -> list[frozenset[str]]:
    """Return minimal sets of allowed nodes that d-separate two nodes, smaller ones first.

    Parameters
    ----------
    most
        At how many to stop; smaller ones may then be missing.

    Returns
    -------
    The sets; none where nothing separates the two.
    """
    moral = _moral(network, one, other)
    within = set(allowed) - {one, other}
    for node in set(moral) - within - {one, other}:
        _eliminate(moral, node)
    if moral.has_edge(one, other):
        return []
    first = _beyond(moral, {one}, other)
    found = {first}
    waiting = deque([first])
    while waiting and len(found) < most:
        separator = waiting.popleft()
        near = _component(moral, one, separator)
        for node in sorted(separator):
            if moral.has_edge(node, other):
                continue
            following = _beyond(moral, near | {node}, other)
            if following not in found:
                found.add(following)
                waiting.append(following)
    return sorted(found, key=lambda some: (len(some), sorted(some)))[:most]


def _moral(network: nx.DiGraph, one: str, other: str) -> nx.Graph:
    """Return the moral graph of two nodes and their ancestors."""
    kept = {one, other} | nx.ancestors(network, one) | nx.ancestors(network, other)
    part = network.subgraph(kept)
    moral = nx.Graph(part.to_undirected())
    for node in part:
        parents = list(part.predecessors(node))
        moral.add_edges_from((a, b) for a in parents for b in parents if a < b)
    return moral


def _eliminate(graph: nx.Graph, node: str) -> None:
    around = list(graph.neighbors(node))
    graph.add_edges_from((a, b) for a in around for b in around if a < b)
    graph.remove_node(node)


def _component(graph: nx.Graph, start: str, without: Iterable[str]) -> set[str]:
    """Return what can be reached from a node without passing some others."""
    closed = set(without)
    seen, waiting = {start}, [start]
    while waiting:
        for node in graph.neighbors(waiting.pop()):
            if node not in seen and node not in closed:
                seen.add(node)
                waiting.append(node)
    return seen


def _beyond(graph: nx.Graph, near: set[str], other: str) -> frozenset[str]:
    """Return the neighbours of the far side, with all around the near side left out."""
    edge = {node for start in near for node in graph.neighbors(start)} - near
    far = _component(graph, other, edge | near)
    return frozenset(node for start in far for node in graph.neighbors(start)) - far
