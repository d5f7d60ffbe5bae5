"""A model as aligned mathematics and as a graph of its definitions."""

from __future__ import annotations

from typing import TYPE_CHECKING

from millwright.language.mathematics import latex_name, latex_of
from millwright.modelling.specification import Part, Specification

if TYPE_CHECKING:
    import networkx as nx

__all__ = ["graph", "latex"]


def latex(specification: Specification) -> str:
    """Return the model as a LaTeX `aligned` environment, one definition a line."""
    groups = (
        specification.likelihood,
        specification.log_density_terms,
        specification.priors,
        specification.derived,
    )
    lines = [_line(specification.part(d.name)) for group in groups for d in group]
    body = " \\\\\n".join(f"  {line}" for line in lines)
    return f"\\begin{{aligned}}\n{body}\n\\end{{aligned}}"


def _line(part: Part) -> str:
    relation = r"\sim" if part.kind in ("unknown", "outcome") else "="
    left = latex_name(part.name)
    if part.per:
        labels = ", ".join(latex_name(label) for label in part.per)
        left = f"{left}_{{{labels}}}"
    if part.kind == "term":
        left = rf"\log p_{{{left}}}"
    return f"{left} &{relation} {latex_of(part.definition.expression)}"


def _text(part: Part) -> str:
    """Return a definition without its label sets."""
    text = part.definition.text
    return text.rsplit(" per ", 1)[0] if part.per else text


def graph(specification: Specification) -> nx.DiGraph:
    """Return the definitions as a directed graph, from what is used to what uses it.

    Each node has a `kind`: `unknown`, `fixed`, `derived`, `outcome`, `term` or `data`, its
    definition as `text`, and the label sets that it has a value for each of as `per`.
    """
    import networkx as nx

    result = nx.DiGraph()
    for part in specification.parts:
        result.add_node(part.name, kind=part.kind, text=_text(part), per=part.per)
    outcomes = {part.name for part in specification.parts if part.kind == "outcome"}
    for part in specification.parts:
        # The labels of an outcome are no use of it: the arrow would go round in a circle.
        sets = [name for name in part.per if name not in outcomes]
        for name in (*part.definition.names, *sets):
            if name not in result:
                result.add_node(name, kind="data", text="a column of the data", per=())
            result.add_edge(name, part.name)
    return result
