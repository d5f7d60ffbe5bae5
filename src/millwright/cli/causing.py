"""What the command for studies does with a causal graph."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from millwright.cli.base import answer
from millwright.errors import ArgumentError

if TYPE_CHECKING:
    from millwright.studies.causal_estimates import EffectEstimates
    from millwright.studies.causal_graph import CausalGraph
    from millwright.studies.causal_test import GraphTest

__all__ = ["Asked", "asked_of_graph", "causal"]

_OWN = ("graph", "effect_of", "on", "direct", "given", "rope")
_OF_REGRESSIONS = ("family", "link", "trials", "exposure")


@dataclass(frozen=True, kw_only=True)
class Asked:
    """What is asked of a causal graph.

    Attributes
    ----------
    pair
        Exposure and outcome; None where no effect is asked for.
    given
        What to adjust for; None for what the graph says.
    region
        Around 0, of standardised coefficients in the test; None for the usual one.
    settings
        Of the regressions.
    """

    graph: CausalGraph
    data: Path | None
    pair: tuple[str, str] | None
    effect: str
    given: list[str] | None
    region: tuple[float, float] | None
    seed: int
    settings: Mapping[str, Any]


def asked_of_graph(data: Path | None, stated: Mapping[str, Any], seed: int) -> Asked:
    """Read what is asked from the options that were given.

    Raises
    ------
    ArgumentError
        For options that a causal graph does not take, or that lack another.
    """
    from millwright.studies.causal_graph import CausalGraph

    takes = (*_OWN, *_OF_REGRESSIONS)
    for option in stated:
        if option not in takes:
            shown = ", ".join(f"--{one.replace('_', '-')}" for one in takes)
            raise ArgumentError(
                f"A causal graph takes no --{option.replace('_', '-')}. It takes: {shown}."
            )
    if "graph" not in stated:
        raise ArgumentError("Name the graph file: millwright study causal DATA --graph GRAPH.")
    exposure, outcome = stated.get("effect_of"), stated.get("on")
    if (exposure is None) != (outcome is None):
        raise ArgumentError("Give both --effect-of and --on, or none of them.")
    for option in ("given", "direct"):
        if option in stated and exposure is None:
            raise ArgumentError(f"--{option} goes with --effect-of and --on.")
    return Asked(
        graph=CausalGraph.read(stated["graph"]),
        data=data,
        pair=None if exposure is None or outcome is None else (exposure, outcome),
        effect="direct" if stated.get("direct") else "total",
        given=stated.get("given"),
        region=stated.get("rope"),
        seed=seed,
        settings={key: stated[key] for key in _OF_REGRESSIONS if key in stated},
    )


def causal(asked: Asked, figure: Path | None, report: Path | None, as_json: bool) -> None:
    """Say what a causal graph implies and what to adjust for; with data test it, and estimate."""
    from millwright.cli.data_files import read_data

    graph = asked.graph
    if report is not None and (asked.data is None or asked.pair is None):
        raise ArgumentError("--report needs data, --effect-of and --on.")
    parts, record = [str(graph)], _record(graph)
    if asked.pair is not None:
        parts.append(graph.explain(*asked.pair, asked.effect, asked.given))
        record |= {
            "effect": asked.effect,
            "adjustment_sets": graph.adjustment_sets(*asked.pair, asked.effect),
            "never_adjust_for": graph.forbidden(*asked.pair, asked.effect),
        }
    table = None if asked.data is None else read_data(asked.data)
    test, found = (None, None) if table is None else _ask(asked, table)
    parts += [str(one) for one in (test, found) if one is not None]
    record |= _tables(test, found)
    if figure is not None:
        _draw(asked, table, figure)
    if report is not None and found is not None:
        results = [graph, *([test] if test is not None else []), found]
        next(iter(found.findings.values())).report(report, replace=True, results=results)
        typer.echo(f"Page: {report}", err=True)
    answer("\n\n".join(parts), record, as_json, found is None or found.good)


def _record(graph: CausalGraph) -> dict[str, Any]:
    return {
        "nodes": list(graph.graph.nodes),
        "unobserved": sorted(graph.graph.unobserved),
        "arrows": [list(arrow) for arrow in graph.graph.arrows],
        "independences": [
            {"first": one.first, "second": one.second, "given": sorted(one.given)}
            for one in graph.independences()
        ],
    }


def _ask(asked: Asked, table: Any) -> tuple[GraphTest | None, EffectEstimates | None]:
    """Return what data say to the graph, and the effect."""
    graph, found = asked.graph, None
    test = None
    if graph.independences():
        test = graph.test(table) if asked.region is None else graph.test(table, rope=asked.region)
    if asked.pair is not None:
        exposure, outcome = asked.pair
        found = graph.estimate(
            table,
            effect_of=exposure,
            on=outcome,
            effect=asked.effect,
            given=asked.given,
            seed=asked.seed,
            **asked.settings,
        )
    return test, found


def _tables(test: GraphTest | None, found: EffectEstimates | None) -> dict[str, Any]:
    from millwright.cli.reports import list_record

    tables: dict[str, Any] = {}
    if test is not None:
        tables["test"] = list_record(test.table())
    if found is not None:
        tables["estimates"] = list_record(found.table())
    return tables


def _draw(asked: Asked, table: Any, figure: Path) -> None:
    from millwright import plots
    from millwright.cli.figure_files import write_figure

    exposure, outcome = asked.pair or (None, None)
    strengths = None if table is None else asked.graph.strengths(table)
    drawn = plots.causal_graph(
        asked.graph,
        exposure=exposure,
        outcome=outcome,
        given=asked.given or (),
        strengths=strengths,
    )
    write_figure(drawn, figure)
    typer.echo(f"Figure: {figure}", err=True)
