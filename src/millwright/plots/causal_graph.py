"""A causal graph in layers, from causes on the left to effects on the right."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

import networkx as nx
import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.text import Text

from millwright.causal.paths import paths_between
from millwright.errors import ArgumentError
from millwright.plots.panels import Size
from millwright.plots.style import (
    BLUE,
    GREEN,
    GREY,
    INK,
    PURPLE,
    RED,
    finish,
    new_figure,
    styled,
    tint,
    wrapped,
)
from millwright.studies.causal_graph import CausalGraph
from millwright.wording import visible

__all__ = ["causal_graph"]

_CLEAR = 3


def causal_graph(
    graph: CausalGraph,
    *,
    exposure: str | None = None,
    outcome: str | None = None,
    given: Iterable[str] = (),
    strengths: Mapping[tuple[str, str], float] | None = None,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw a causal graph, with an effect in question and what is adjusted for.

    Parameters
    ----------
    graph
        A `CausalGraph`.
    exposure, outcome
        The effect in question; both or none.
    given
        What is adjusted for.
    strengths
        Numbers to write at arrows, as of `graph.strengths(data)`.
    size
        Width and height in inches; by default 12.8 and as many as the layers need.
    text
        Whether to write title and caption.

    Returns
    -------
    The figure.

    Raises
    ------
    ArgumentError
        For what is no graph, or names that are not in it.
    """
    if not isinstance(graph, CausalGraph):
        raise ArgumentError(f"Give a CausalGraph, not {type(graph).__name__}.")
    if (exposure is None) != (outcome is None):
        raise ArgumentError("Give both `exposure` and `outcome`, or none of them.")
    chosen = {graph.graph.check(name, "given") for name in given}
    causal, open_ones = _marked(graph, exposure, outcome, chosen)
    places, tall = _places(graph)
    with styled():
        figure = new_figure(size, (12.8, max(4.6, 1.2 + 1.15 * tall)))
        axes = figure.subplots()
        axes.set_axis_off()
        x, y = (np.array([place[k] for place in places.values()]) for k in (0, 1))
        axes.set_xlim(x.min() - 0.5, x.max() + 0.5)
        axes.set_ylim(y.min() - 0.7, y.max() + 0.7)
        boxes = {
            node: _node(axes, node, place, _fill(graph, node, exposure, outcome, chosen))
            for node, place in places.items()
        }
        for arrow in graph.graph.arrows:
            if " <-> " in arrow[0]:
                continue
            colour = BLUE if arrow in causal else RED if arrow in open_ones else INK
            style = "--" if arrow in open_ones and arrow not in causal else "-"
            _arrow(axes, boxes[arrow[0]], boxes[arrow[1]], "-|>", colour, style)
        for node in graph.graph.nodes:
            if " <-> " in node:
                one, other = node.split(" <-> ")
                ways = {(node, one), (node, other)} & open_ones
                colour = RED if ways else GREY
                _arrow(axes, boxes[one], boxes[other], "<|-|>", colour, "--", 0.28)
        drawn = finish(
            figure,
            "What causes what"
            if exposure is None
            else f"The effect of `{visible(exposure)}` on `{visible(str(outcome))}`",
            _caption(exposure, strengths),
            text,
        )
        _numbers(drawn, axes, places, strengths or {})
        return drawn


def _caption(exposure: str | None, strengths: object) -> str:
    words = "Arrows lead from causes to effects. Dashed boxes and double arrows: not observed."
    if exposure is not None:
        words += (
            " Blue box: exposure; purple: outcome; green: adjusted for. Blue arrows: causal "
            "paths; red dashes: paths that are open and not causal."
        )
    if strengths is not None:
        words += " Numbers: standardised coefficients of arrows that are identified."
    return words


def _marked(
    graph: CausalGraph, exposure: str | None, outcome: str | None, given: set[str]
) -> tuple[set[tuple[str, str]], set[tuple[str, str]]]:
    """Return arrows of causal paths, and of open ones that are not causal."""
    causal: set[tuple[str, str]] = set()
    others: set[tuple[str, str]] = set()
    if exposure is None or outcome is None:
        return causal, others
    pair = graph.graph.check_pair(exposure, outcome)
    network = graph.graph.network
    for path in paths_between(graph.graph, *pair, given):
        steps = zip(path.nodes, path.nodes[1:], strict=False)
        arrows = {(a, b) if network.has_edge(a, b) else (b, a) for a, b in steps}
        if path.kind == "causal":
            causal |= arrows
        elif path.open:
            others |= arrows
    return causal, others


def _places(graph: CausalGraph) -> tuple[dict[str, tuple[float, float]], int]:
    """Return where each node stands, and how many stand above each other at most."""
    network = graph.graph.network.copy()
    network.remove_nodes_from([node for node in graph.graph.nodes if " <-> " in node])
    layers = list(nx.topological_generations(network))
    for number, layer in enumerate(layers):
        for node in layer:
            network.nodes[node]["layer"] = number
    tall = max(map(len, layers))
    above: dict[str, float] = {}
    places: dict[str, tuple[float, float]] = {}
    for number, layer in enumerate(layers):
        # Nodes stand near the mean height of their causes, so that few arrows cross.
        causes = {node: [above[one] for one in network.predecessors(node)] for node in layer}
        order = sorted(layer, key=lambda n: float(np.mean(causes[n])) if causes[n] else 0.0)
        for at, node in enumerate(order):
            # Every other layer stands a little higher, so that no arrow runs through a box.
            height = at - (len(order) - 1) / 2 + 0.22 * (number % 2)
            above[node] = height
            places[node] = (float(number), height)
    return places, tall


def _fill(
    graph: CausalGraph, node: str, exposure: str | None, outcome: str | None, given: set[str]
) -> tuple[Any, str, str]:
    """Return the colour of a node's box, of its edge, and how the edge is drawn."""
    if node in graph.graph.unobserved:
        return "white", GREY, "--"
    if node == exposure:
        return tint(BLUE, 0.45), BLUE, "-"
    if node == outcome:
        return tint(PURPLE, 0.45), PURPLE, "-"
    if node in given:
        return tint(GREEN, 0.55), GREEN, "-"
    return "white", INK, "-"


def _node(axes: Axes, node: str, place: tuple[float, float], look: tuple[Any, str, str]) -> Text:
    face, edge, style = look
    return axes.text(
        *place,
        wrapped(visible(node), 18),
        ha="center",
        va="center",
        fontsize=11,
        color=INK,
        zorder=3,
        bbox={
            "boxstyle": "round,pad=0.45",
            "facecolor": face,
            "edgecolor": edge,
            "linestyle": style,
            "linewidth": 1.6,
        },
    )


def _arrow(
    axes: Axes,
    begin: Text,
    end: Text,
    head: str,
    colour: str,
    style: str,
    bend: float = 0.0,
) -> None:
    places = begin.get_position(), end.get_position()
    axes.annotate(
        "",
        places[1],
        places[0],
        arrowprops={
            "arrowstyle": head,
            "color": colour,
            "linestyle": style,
            "linewidth": 1.8,
            "shrinkA": _CLEAR,
            "shrinkB": _CLEAR,
            "patchA": begin.get_bbox_patch(),
            "patchB": end.get_bbox_patch(),
            "mutation_scale": 16,
            "connectionstyle": f"arc3,rad={bend or _bend(*places)}",
        },
        zorder=2,
    )


def _bend(begin: tuple[float, float], end: tuple[float, float]) -> float:
    """Return how far an arrow bends: only where it passes a layer."""
    return 0.18 if abs(end[0] - begin[0]) > 1.5 else 0.0


def _numbers(
    figure: Figure,
    axes: Axes,
    places: Mapping[str, tuple[float, float]],
    strengths: Mapping[tuple[str, str], float],
) -> None:
    """Write numbers on the middles of arrows, which bend on the canvas and not in the data."""
    figure.draw_without_rendering()
    for (cause, effect), value in strengths.items():
        if cause not in places or effect not in places:
            raise ArgumentError(f"`strengths` names {cause} -> {effect}, which is no arrow.")
        begin, end = (axes.transData.transform(places[name]) for name in (cause, effect))
        across = np.array([end[1] - begin[1], begin[0] - end[0]])
        bend = _bend(places[cause], places[effect])
        middle = 0.5 * (begin + end) + 0.5 * bend * across
        x, y = axes.transData.inverted().transform(middle)
        axes.text(
            x,
            y,
            f"{value:.2f}",
            ha="center",
            va="center",
            fontsize=9.5,
            color=INK,
            zorder=4,
            bbox={"boxstyle": "round,pad=0.15", "facecolor": "white", "edgecolor": "none"},
        )
