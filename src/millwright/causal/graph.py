"""A directed acyclic graph of causes, some of them unobserved, read from a text."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import networkx as nx

from millwright.errors import ArgumentError, nearest

__all__ = ["Graph", "read_graph"]

_ARROWS = re.compile(r"(<->|->|<-)")
_MARKS = re.compile(r"[<>;]")


@dataclass(frozen=True, kw_only=True)
class Graph:
    """Causes and effects.

    Attributes
    ----------
    arrows
        Pairs of cause and effect; a common cause that is not observed, `a <-> b`, is a node of
        its own with this name.
    nodes
        All nodes, in the order in which they were named.
    unobserved
        Those that no data hold.
    """

    arrows: tuple[tuple[str, str], ...]
    nodes: tuple[str, ...]
    unobserved: frozenset[str] = field(default=frozenset())

    @cached_property
    def network(self) -> nx.DiGraph:
        """The graph as networkx has it."""
        made = nx.DiGraph()
        made.add_nodes_from(self.nodes)
        made.add_edges_from(self.arrows)
        return made

    @property
    def observed(self) -> tuple[str, ...]:
        """Nodes that data can hold."""
        return tuple(node for node in self.nodes if node not in self.unobserved)

    def check(self, name: Any, what: str) -> str:
        """Return a node's name.

        Raises
        ------
        ArgumentError
            If there is none of this name.
        """
        if name not in self.network:
            raise ArgumentError(
                f"`{what}` names `{name}`, which is not in the graph."
                f"{nearest(str(name), self.nodes)} It has: {', '.join(self.nodes)}."
            )
        return str(name)

    def check_pair(self, exposure: Any, outcome: Any) -> tuple[str, str]:
        """Return exposure and outcome.

        Raises
        ------
        ArgumentError
            If one is not there, is not observed, or both are the same.
        """
        found = self.check(exposure, "exposure"), self.check(outcome, "outcome")
        if found[0] == found[1]:
            raise ArgumentError(f"Exposure and outcome are both `{found[0]}`.")
        for name, what in zip(found, ("exposure", "outcome"), strict=True):
            if name in self.unobserved:
                raise ArgumentError(
                    f"The {what} `{name}` is not observed: no regression can say anything of it."
                )
        return found

    def parents(self, node: str) -> tuple[str, ...]:
        """Return the causes of a node."""
        return tuple(self.network.predecessors(node))

    def descendants(self, nodes: Iterable[str]) -> set[str]:
        """Return nodes with all that they have an effect on."""
        found = set(nodes)
        for node in tuple(found):
            found |= nx.descendants(self.network, node)
        return found


def read_graph(given: Any, unobserved: Iterable[str] = ()) -> Graph:
    """Read a graph.

    Parameters
    ----------
    given
        A text such as `flow -> speed -> heat; grain -> heat; a <-> b`, a mapping from each cause
        to its effects, or a directed graph of networkx.
    unobserved
        Nodes that no data hold.

    Raises
    ------
    ArgumentError
        For what is no graph, a cycle, or names that are not in it.
    """
    nodes: dict[str, None] = {}
    arrows: dict[tuple[str, str], None] = {}
    hidden: set[str] = set()
    if isinstance(given, str):
        _read_text(given, nodes, arrows, hidden)
    elif isinstance(given, nx.DiGraph):
        nodes = dict.fromkeys(map(str, given.nodes))
        arrows = {(str(a), str(b)): None for a, b in given.edges}
    elif isinstance(given, Mapping):
        for cause, effects in given.items():
            nodes[str(cause)] = None
            for effect in [effects] if isinstance(effects, str) else effects:
                nodes[str(effect)] = None
                arrows[str(cause), str(effect)] = None
    else:
        raise ArgumentError(
            "A graph is a text such as 'flow -> speed; speed -> heat', a mapping of causes to "
            f"effects, or a directed networkx graph, not {type(given).__name__}."
        )
    if not arrows:
        raise ArgumentError("The graph has no arrow: write 'cause -> effect'.")
    made = Graph(arrows=tuple(arrows), nodes=tuple(nodes), unobserved=frozenset(hidden))
    names = [unobserved] if isinstance(unobserved, str) else list(unobserved)
    more = {made.check(name, "unobserved") for name in names}
    made = Graph(arrows=made.arrows, nodes=made.nodes, unobserved=made.unobserved | more)
    _refuse_cycle(made)
    return made


def _read_text(
    text: str, nodes: dict[str, None], arrows: dict[tuple[str, str], None], hidden: set[str]
) -> None:
    for statement in re.split(r"[;\n]", text):
        if not statement.strip():
            continue
        parts = _ARROWS.split(statement)
        sides = [[name.strip() for name in side.split(",")] for side in parts[::2]]
        for side in sides:
            for name in side:
                if not name or _MARKS.search(name):
                    raise ArgumentError(
                        f"`{statement.strip()}` cannot be read: write 'cause -> effect', several "
                        "with commas, and 'a <-> b' for a common cause that is not observed."
                    )
                nodes[name] = None
        for left, arrow, right in zip(sides, parts[1::2], sides[1:], strict=False):
            for one in left:
                for other in right:
                    _connect(one, arrow, other, nodes, arrows, hidden)


def _connect(
    one: str,
    arrow: str,
    other: str,
    nodes: dict[str, None],
    arrows: dict[tuple[str, str], None],
    hidden: set[str],
) -> None:
    if arrow == "->":
        arrows[one, other] = None
    elif arrow == "<-":
        arrows[other, one] = None
    else:
        common = f"{one} <-> {other}"
        nodes[common] = None
        hidden.add(common)
        arrows[common, one] = None
        arrows[common, other] = None


def _refuse_cycle(graph: Graph) -> None:
    try:
        cycle = nx.find_cycle(graph.network)
    except nx.NetworkXNoCycle:
        return
    told = " -> ".join([cycle[0][0], *(edge[1] for edge in cycle)])
    raise ArgumentError(
        f"The graph has a cycle, {told}: nothing can be its own cause. Leave an arrow out, or "
        "tell earlier from later by two nodes."
    )
