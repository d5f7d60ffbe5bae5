"""Which variables to adjust for: the adjustment criterion, direct effects, instruments.

Adjusting for Z identifies the total effect of X on Y exactly if Z holds no node on a causal path
from X to Y beyond X nor a descendant of one, and Z d-separates X and Y once the first arrows of
these paths are taken out (Shpitser, VanderWeele and Robins 2010; van der Zander et al. 2019). For
the direct effect in linear models: once the arrow itself is taken out, by nodes that Y has no
effect on (the single-door criterion; Pearl 2009, theorem 5.3.1).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import networkx as nx

from millwright.causal.graph import Graph
from millwright.causal.separators import minimal_separators
from millwright.errors import ArgumentError

__all__ = ["Instrument", "adjustment_sets", "fault_of", "forbidden", "instruments"]

_EFFECTS = ("total", "direct")


@dataclass(frozen=True)
class Instrument:
    """A variable that moves the outcome through the exposure alone, given others."""

    name: str
    given: frozenset[str]


def causal_nodes(graph: Graph, exposure: str, outcome: str) -> set[str]:
    """Return nodes on directed paths from the exposure to the outcome, without the exposure."""
    below = nx.descendants(graph.network, exposure)
    return below & (nx.ancestors(graph.network, outcome) | {outcome})


def forbidden(graph: Graph, exposure: str, outcome: str, effect: str = "total") -> dict[str, str]:
    """Return variables that must not be adjusted for, each with the reason."""
    check_effect(effect)
    found: dict[str, str] = {}
    if effect == "direct":
        for node in graph.descendants([outcome]) - {outcome, exposure}:
            found[node] = f"an effect of the outcome `{outcome}`"
        return _in_order(graph, found)
    between = causal_nodes(graph, exposure, outcome)
    for node in graph.descendants(between) - {outcome, exposure}:
        if node in between:
            found[node] = f"a mediator: `{exposure}` works through it"
        elif node in graph.descendants([outcome]):
            found[node] = f"an effect of the outcome `{outcome}`"
        else:
            found[node] = "an effect of a mediator"
    return _in_order(graph, found)


def _in_order(graph: Graph, found: dict[str, str]) -> dict[str, str]:
    return {node: found[node] for node in graph.observed if node in found}


def without_effect(graph: Graph, exposure: str, outcome: str, effect: str) -> nx.DiGraph:
    """Return the graph without the arrows by which the effect in question leaves the exposure."""
    made = graph.network.copy()
    if effect == "direct":
        made.remove_edges_from([(exposure, outcome)])
    else:
        between = causal_nodes(graph, exposure, outcome)
        made.remove_edges_from([(exposure, node) for node in between])
    return made


def adjustment_sets(
    graph: Graph, exposure: str, outcome: str, effect: str = "total"
) -> list[frozenset[str]]:
    """Return all minimal sets, smaller ones first; none where no set identifies the effect."""
    never = {*forbidden(graph, exposure, outcome, effect)}
    allowed = [node for node in graph.observed if node not in never]
    cut = without_effect(graph, exposure, outcome, effect)
    return minimal_separators(cut, exposure, outcome, allowed)


def fault_of(
    graph: Graph, exposure: str, outcome: str, given: Iterable[str], effect: str = "total"
) -> str:
    """Say why a set does not identify the effect; nothing where it does."""
    chosen = set(given)
    for node, reason in forbidden(graph, exposure, outcome, effect).items():
        if node in chosen:
            return f"`{node}` must not be adjusted for: {reason}"
    cut = without_effect(graph, exposure, outcome, effect)
    if not nx.is_d_separator(cut, {exposure}, {outcome}, chosen):
        return "a path that is not causal stays open, or is opened"
    return ""


def instruments(graph: Graph, exposure: str, outcome: str) -> list[Instrument]:
    """Return variables that can stand in for an experiment (Brito and Pearl 2002).

    Each with a smallest set by which it is separated from the outcome once the arrows out of the
    exposure are taken out, but not from the exposure.
    """
    cut = graph.network.copy()
    cut.remove_edges_from(list(graph.network.out_edges(exposure)))
    below = graph.descendants([exposure, outcome])
    found = []
    for node in graph.observed:
        if node in below:
            continue
        allowed = [one for one in graph.observed if one not in below and one != node]
        for given in minimal_separators(cut, node, outcome, allowed):
            if exposure in given:
                continue
            if not nx.is_d_separator(graph.network, {node}, {exposure}, set(given)):
                found.append(Instrument(node, given))
                break
    return found


def check_effect(effect: str) -> None:
    """Refuse what is no effect.

    Raises
    ------
    ArgumentError
        For another word.
    """
    if effect not in _EFFECTS:
        raise ArgumentError(f"`effect` is 'total' or 'direct', not {effect!r}.")
