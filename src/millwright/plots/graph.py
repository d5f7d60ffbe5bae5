"""The picture of a model: its definitions and what rests on what."""

from __future__ import annotations

import textwrap
from collections.abc import Mapping

import networkx as nx
import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.text import Text

from millwright.errors import ArgumentError
from millwright.models.model import Model
from millwright.plots.style import (
    BLUE,
    GREY,
    INK,
    YELLOW,
    finish,
    new_figure,
    styled,
    tint,
    wrapped,
)
from millwright.posterior.posterior import Posterior

__all__ = ["model_graph"]

_MOST = 40
_LINES = 4
_BENDS = (0.0, 0.15, -0.15, 0.3, -0.3, 0.5, -0.5)
_ENOUGH_ROOM = 0.1
_SPACE = 150
"""Signs that fit side by side over the width of a picture at the usual size."""

# Kinds differ by shape, by edge and by the word in the box, not by colour alone.
_BOXES = {
    "unknown": {"boxstyle": "round,pad=0.5,rounding_size=1.2", "ec": BLUE, "fc": tint(BLUE, 0.15)},
    "outcome": {"boxstyle": "square,pad=0.5", "ec": INK, "fc": tint(YELLOW, 0.35)},
    "data": {"boxstyle": "square,pad=0.5", "ec": GREY, "fc": "white"},
    "derived": {"boxstyle": "round4,pad=0.5", "ec": GREY, "fc": "white", "ls": "--"},
    "fixed": {"boxstyle": "round,pad=0.4", "ec": GREY, "fc": "white", "ls": ":"},
    "term": {"boxstyle": "sawtooth,pad=0.5", "ec": YELLOW, "fc": "white"},
}
_RELATIONS = {"unknown": "~", "outcome": "~", "derived": "=", "fixed": "=", "term": "adds"}


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
    size
        Width and height in inches.
    text
        Whether to write title and caption.

    Returns
    -------
    The figure.

    Raises
    ------
    ArgumentError
        For what cannot be shown: another kind of result, names that are not there, or too many.
    """
    sizes: dict[str, int] = {}
    if isinstance(model, Posterior):
        sizes = {name: len(labels) for name, labels in model.draws.binding.labels.items()}
        model = Model._of(model.draws.binding.specification)
    if not isinstance(model, Model):
        raise ArgumentError(f"A model is needed here, not {type(model).__name__}.")
    graph = model.graph()
    if len(graph) > _MOST:
        raise ArgumentError(f"{len(graph)} names do not fit into one picture; at most {_MOST} do.")
    layers = _layers(graph)
    widest = max(map(len, layers))
    lines = {name: _lines(graph, name, sizes, _SPACE // widest - 5) for name in graph}
    tallest = max(map(len, lines.values()))
    with styled():
        height = min(8.0, 1.3 + (0.5 + 0.2 * tallest) * len(layers))
        figure = new_figure(size, (12.8, height))
        axes = figure.subplots()
        axes.set_axis_off()
        places = _places(layers)
        boxes = {
            name: _node(axes, lines[name], graph.nodes[name]["kind"], places[name])
            for name in graph
        }
        wide, high = figure.get_size_inches() / (widest, len(layers))
        inches = {name: np.array([x * wide, y * high]) for name, (x, y) in places.items()}
        for source, target in graph.edges:
            bend = _free_bend(source, target, inches, lines)
            _arrow(axes, boxes[source], boxes[target], bend)
        axes.set_xlim(-0.5 * widest, 0.5 * widest)
        axes.set_ylim(-len(layers) + 0.45, 0.5)
        return finish(
            figure,
            f"Model: {model.title or 'without a title'}",
            "An arrow leads from a quantity to what uses it. ~: distributed as. Round: unknown. "
            "Filled square: outcome. Open square: data column. Dashed: derived. Dotted: fixed.",
            text,
        )


def _layers(graph: nx.DiGraph) -> list[list[str]]:
    """Put each name just above the first that uses it; what shares labels stands together."""
    depth = dict.fromkeys(graph, 0)
    for name in reversed(list(nx.topological_sort(graph))):
        below = [depth[after] + 1 for after in graph.successors(name)]
        depth[name] = max(below, default=0)
    layers: list[list[str]] = []
    place: dict[str, float] = {}
    for level in range(max(depth.values()) + 1):
        here = [name for name in graph if depth[name] == level]
        middles = {
            name: sum(place[n] for n in graph.successors(name)) / max(1, graph.out_degree(name))
            for name in here
        }
        here.sort(key=lambda name: (middles[name], graph.nodes[name]["per"]))
        place |= {name: at - (len(here) - 1) / 2 for at, name in enumerate(here)}
        layers.append(here)
    return layers[::-1]


def _places(layers: list[list[str]]) -> dict[str, tuple[float, float]]:
    """Spread each layer over the whole width, the first on top."""
    widest = max(map(len, layers))
    return {
        name: (widest * ((at + 0.5) / len(layer) - 0.5), -float(level))
        for level, layer in enumerate(layers)
        for at, name in enumerate(layer)
    }


def _lines(graph: nx.DiGraph, name: str, sizes: Mapping[str, int], width: int) -> list[str]:
    """Return what stands in a box: the name, its definition and its label sets."""
    node = graph.nodes[name]
    lines = wrapped(name, max(width, 8)).split("\n")
    if node["kind"] == "data":
        labels = f", {sizes[name]} labels" if name in sizes else ""
        return [*lines, f"data column{labels}"]
    text = f"{_RELATIONS[node['kind']]} {node['text']}"
    lines += textwrap.wrap(
        text, max(width, 8), max_lines=_LINES, placeholder=" ...", break_long_words=False
    )
    for label in node["per"]:
        lines.append(f"per {label}" + (f" ({sizes[label]} labels)" if label in sizes else ""))
    return lines


def _node(axes: Axes, lines: list[str], kind: str, place: tuple[float, float]) -> Text:
    text = "\n".join(lines)
    return axes.text(*place, text, ha="center", va="center", fontsize=9.5, bbox=_BOXES[kind])


def _free_bend(
    source: str,
    target: str,
    places: Mapping[str, np.ndarray],
    lines: Mapping[str, list[str]],
) -> float:
    """Return how much an arrow must bend to pass by the boxes between its ends."""
    begin, end = places[source], places[target]
    step = end - begin
    along = np.linspace(0.05, 0.95, 40)[:, None]
    others = [name for name in places if end[1] < places[name][1] < begin[1]]
    if not others:
        return 0.0
    rooms = {}
    for bend in _BENDS:
        control = (begin + end) / 2 + bend * np.array([step[1], -step[0]])
        path = (1 - along) ** 2 * begin + 2 * along * (1 - along) * control + along**2 * end
        rooms[bend] = min(_room(path, places[name], lines[name]) for name in others)
    return max(_BENDS, key=lambda bend: (min(rooms[bend], _ENOUGH_ROOM), -abs(bend)))


def _room(path: np.ndarray, place: np.ndarray, lines: list[str]) -> float:
    """Return how far a path stays from a box, in inches; below 0 where it goes through."""
    half = np.array([0.04 * max(map(len, lines)) + 0.1, 0.08 * len(lines) + 0.1])
    return float(np.max(np.abs(path - place) - half, axis=1).min())


def _arrow(axes: Axes, source: Text, target: Text, bend: float) -> None:
    """Draw an arrow between the edges of two boxes, which are placed when they are drawn."""
    axes.annotate(
        "",
        xy=target.get_position(),
        xytext=source.get_position(),
        arrowprops={
            "arrowstyle": "-|>",
            "connectionstyle": f"arc3,rad={bend}",
            "color": INK,
            "lw": 1.1,
            "shrinkA": 0,
            "shrinkB": 0,
            "patchA": source.get_bbox_patch(),
            "patchB": target.get_bbox_patch(),
        },
        zorder=4,
    )
