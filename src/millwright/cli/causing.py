"""The command for causal graphs."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from millwright.cli.base import Json, Replace, answer, app
from millwright.errors import ArgumentError

if TYPE_CHECKING:
    from millwright.studies.causal_graph import CausalGraph

__all__ = ["causal"]


@app.command()
def causal(
    graph: Annotated[
        Path,
        typer.Argument(
            help="Graph file: a line 'cause -> effect' for each arrow, 'a <-> b' for a common "
            "cause that is not observed, 'unobserved: a, b'; # begins a comment."
        ),
    ],
    data: Annotated[
        Path | None, typer.Argument(help="Data: CSV, TSV, JSON, Parquet or Excel.")
    ] = None,
    effect_of: Annotated[str | None, typer.Option(help="The exposure.")] = None,
    on: Annotated[str | None, typer.Option(help="The outcome.")] = None,
    direct: Annotated[
        bool, typer.Option("--direct", help="The effect of the arrow alone, not the total one.")
    ] = False,
    given: Annotated[
        list[str] | None, typer.Option(help="Adjust for this variable; repeatable.")
    ] = None,
    seed: Annotated[int, typer.Option(help="Any whole number from 0.")] = 0,
    figure: Annotated[Path | None, typer.Option(help="File for the drawing.")] = None,
    replace: Replace = False,
    as_json: Json = False,
) -> None:
    """Say what a causal graph implies and what to adjust for; with data test it, and estimate."""
    from millwright.storage.place import check_new
    from millwright.studies.causal_graph import CausalGraph

    if (effect_of is None) != (on is None):
        raise ArgumentError("Give both --effect-of and --on, or none of them.")
    if given and effect_of is None:
        raise ArgumentError("--given goes with --effect-of and --on.")
    if figure is not None:
        check_new(figure, replace)
    made = CausalGraph.read(graph)
    effect = "direct" if direct else "total"
    parts, record = [str(made)], _record(made)
    if effect_of is not None and on is not None:
        parts.append(made.explain(effect_of, on, effect, given))
        record |= {
            "effect": effect,
            "adjustment_sets": made.adjustment_sets(effect_of, on, effect),
            "never_adjust_for": made.forbidden(effect_of, on, effect),
        }
    good = True
    if data is not None:
        good = _ask_data(made, data, (effect_of, on), effect, given, seed, parts, record)
    if figure is not None:
        _draw(made, data, (effect_of, on), given, figure)
    answer("\n\n".join(parts), record, as_json, good)


def _record(made: CausalGraph) -> dict[str, Any]:
    return {
        "nodes": list(made.graph.nodes),
        "unobserved": sorted(made.graph.unobserved),
        "arrows": [list(arrow) for arrow in made.graph.arrows],
        "independences": [
            {"first": one.first, "second": one.second, "given": sorted(one.given)}
            for one in made.independences()
        ],
    }


def _ask_data(
    made: CausalGraph,
    data: Path,
    pair: tuple[str | None, str | None],
    effect: str,
    given: list[str] | None,
    seed: int,
    parts: list[str],
    record: dict[str, Any],
) -> bool:
    """Add what data say; return whether it can be used."""
    from millwright.cli.data_files import read_data

    table = read_data(data)
    if made.independences():
        test = made.test(table)
        parts.append(str(test))
        record["test"] = test.table().to_dict("records")
    if pair[0] is not None and pair[1] is not None:
        found = made.estimate(
            table, effect_of=pair[0], on=pair[1], effect=effect, given=given, seed=seed
        )
        parts.append(str(found))
        record["estimates"] = found.table().reset_index().to_dict("records")
        return found.good
    return True


def _draw(
    made: CausalGraph,
    data: Path | None,
    pair: tuple[str | None, str | None],
    given: list[str] | None,
    figure: Path,
) -> None:
    from millwright import plots
    from millwright.cli.data_files import read_data
    from millwright.cli.figure_files import write_figure

    strengths = None if data is None else made.strengths(read_data(data))
    drawn = plots.causal_graph(
        made, exposure=pair[0], outcome=pair[1], given=given or (), strengths=strengths
    )
    write_figure(drawn, figure)
    typer.echo(f"Figure: {figure}", err=True)
