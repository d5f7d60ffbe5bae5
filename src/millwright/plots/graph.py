"""The picture of a model: its definitions and what rests on what."""

from __future__ import annotations

import networkx as nx
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.errors import ArgumentError
from millwright.models.model import Model
from millwright.plots.style import INK, RIVER, STONE, WHEAT, finish, new_figure, styled
from millwright.posterior.posterior import Posterior

__all__ = ["model_graph"]

_MOST = 40

# Kinds differ by shape, by edge and by the word under the name, not by colour alone.
_BOXES = {
    "unknown": {"boxstyle": "round,pad=0.5,rounding_size=1.2", "ec": RIVER, "fc": "#E4F0F1"},
    "outcome": {"boxstyle": "square,pad=0.5", "ec": INK, "fc": "#F6E7CB"},
    "data": {"boxstyle": "square,pad=0.5", "ec": STONE, "fc": "white"},
    "derived": {"boxstyle": "round4,pad=0.5", "ec": STONE, "fc": "white", "ls": "--"},
    "fixed": {"boxstyle": "round,pad=0.4", "ec": STONE, "fc": "white", "ls": ":"},
    "term": {"boxstyle": "sawtooth,pad=0.5", "ec": WHEAT, "fc": "white"},
}


def model_graph(
    model: Model | Posterior,
    *,
    size: tuple[float, float] | None = None,
    text: bool = True,
) -> Figure:
    """Draw a model's definitions, from what is used at the top to what uses it below.

    Parameters
    ----------
    model
        A model, or a posterior of it; at most 40 definitions and columns.
    """
    if isinstance(model, Posterior):
        model = Model._of(model.draws.binding.specification)
    if not isinstance(model, Model):
        raise ArgumentError(f"A model is needed here, not {type(model).__name__}.")
    graph = model.graph()
    if len(graph) > _MOST:
        raise ArgumentError(f"{len(graph)} names do not fit into one picture; at most {_MOST} do.")
    levels = _levels(graph)
    places = _places(graph, levels)
    with styled():
        height = min(8.0, 2.0 + 1.35 * len(levels))
        figure = new_figure(*(size or (12.8, height)))
        axes = figure.subplots()
        axes.set_axis_off()
        axes.set_xlim(-0.02, 1.02)
        axes.set_ylim(-len(levels) + 0.5, 0.5)
        for name, place in places.items():
            _node(axes, name, graph.nodes[name]["kind"], place)
        for source, target in graph.edges:
            _arrow(axes, places[source], places[target])
        return finish(
            figure,
            f"Model: {model.title or 'without a title'}",
            "An arrow leads from a quantity to what uses it. Round: unknown. Filled square: "
            "outcome. Open square: data column. Dashed: derived. Dotted: fixed.",
            text,
        )


def _levels(graph: nx.DiGraph) -> list[list[str]]:
    """Put each name just above the first that uses it, so that arrows stay short."""
    depth = dict.fromkeys(graph, 0)
    for name in reversed(list(nx.topological_sort(graph))):
        below = [depth[after] + 1 for after in graph.successors(name)]
        depth[name] = max(below, default=0)
    deepest = max(depth.values())
    return [[name for name in graph if depth[name] == level] for level in range(deepest, -1, -1)]


def _places(graph: nx.DiGraph, levels: list[list[str]]) -> dict[str, tuple[float, float]]:
    """Spread each level over the width, ordered by where its users stand."""
    places: dict[str, tuple[float, float]] = {}
    for row in range(len(levels) - 1, -1, -1):

        def centre(name: str) -> float:
            below = [places[after][0] for after in graph.successors(name) if after in places]
            return sum(below) / len(below) if below else 0.5

        ordered = sorted(levels[row], key=centre)
        for at, name in enumerate(ordered):
            places[name] = ((at + 0.5) / len(ordered), -float(row))
    return places


def _node(axes: Axes, name: str, kind: str, place: tuple[float, float]) -> None:
    label = f"{name}\n{kind}"
    axes.text(*place, label, ha="center", va="center", fontsize=10.5, bbox=_BOXES[kind], zorder=3)


def _arrow(axes: Axes, source: tuple[float, float], target: tuple[float, float]) -> None:
    axes.annotate(
        "",
        xy=(target[0], target[1] + 0.18),
        xytext=(source[0], source[1] - 0.18),
        arrowprops={"arrowstyle": "-|>", "color": INK, "lw": 1.1, "shrinkA": 0, "shrinkB": 0},
        zorder=2,
    )
