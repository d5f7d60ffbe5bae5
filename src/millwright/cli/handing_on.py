"""Commands that hand results on: the report, exports, a starter sheet."""

from __future__ import annotations

import shlex
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from millwright.cli.base import Data, Replace, Run, app, named_runs
from millwright.errors import ArgumentError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["export", "new", "report"]


@app.command()
def report(
    run: Run,
    others: Annotated[
        list[Path] | None, typer.Argument(help="Other runs of the same data, to compare with.")
    ] = None,
    out: Annotated[Path | None, typer.Option(help="The page; by default RUN.html.")] = None,
    statement: Annotated[
        list[str] | None, typer.Option(help="A statement, such as 'drying < 0'; repeatable.")
    ] = None,
    rope: Annotated[
        list[str] | None,
        typer.Option(help="A decision, such as 'drying: -0.05 to 0.05'; repeatable."),
    ] = None,
    replace: Replace = False,
) -> None:
    """Write the whole analysis as one HTML page."""
    from millwright.models.runs import load
    from millwright.reporting import report as write
    from millwright.storage.place import STUDY_FILE

    (name, _), *rest = named_runs([run, *(others or [])]).items()
    posterior = load(run)
    about: Any = posterior
    if (run / STUDY_FILE).is_file():
        from millwright.studies import load as load_study

        about = load_study(run)
    decisions = [posterior.decide(name, rope=ends) for name, ends in map(_region, rope or [])]
    place = write(
        about,
        out or Path(f"{name}.html"),
        decisions=decisions,
        statements=statement or [],
        name=name,
        compare_with={other: load(place) for other, place in rest},
        replace=replace,
    )
    typer.echo(str(place))


def _region(text: str) -> tuple[str, tuple[float, float]]:
    """Read `drying: -0.05 to 0.05`."""
    name, _, ends = text.rpartition(":")
    parts = ends.split(" to ")
    try:
        low, high = (float(part) for part in parts)
    except ValueError:
        raise ArgumentError(
            f"--rope is written as 'drying: -0.05 to 0.05', not {text!r}."
        ) from None
    return name.strip(), (low, high)


@app.command()
def export(
    run: Run,
    to: Annotated[
        Path,
        typer.Argument(
            help="File: .csv, .parquet, .json or .nc for draws; .zip for the whole run; with "
            "--table .csv, .md, .tex, .html or .xlsx."
        ),
    ],
    table: Annotated[bool, typer.Option("--table", help="The table instead of draws.")] = False,
    rescue: Annotated[
        bool,
        typer.Option("--rescue", help="Of a damaged run: the draws that can still be read."),
    ] = False,
    replace: Replace = False,
) -> None:
    """Write draws, table or a whole run to one file."""
    from millwright.exchange.exporting import export_draws, export_run, export_table
    from millwright.exchange.importing import read_draws
    from millwright.models.runs import load

    if rescue:
        found = read_draws(run)
        for remark in found.verdict.facts:
            typer.echo(remark, err=True)
        (export_table if table else export_draws)(found, to, replace)
    elif to.suffix.lower() == ".zip":
        export_run(run, to, replace)
    elif table:
        export_table(load(run), to, replace)
    else:
        export_draws(load(run), to, replace)
    typer.echo(str(to))


@app.command()
def new(
    data: Data,
    out: Annotated[Path | None, typer.Option(help="The sheet; by default DATA.toml.")] = None,
    outcome: Annotated[
        str | None, typer.Option(help="Column to explain; by default the last of numbers.")
    ] = None,
    replace: Replace = False,
) -> None:
    """Write a starter sheet for the columns of a data file."""
    from millwright.cli.data_files import read_data
    from millwright.cli.starter import starter_sheet
    from millwright.storage.sheet import write_new

    table = read_data(data)
    text = starter_sheet(table, outcome, data.name)
    place = out or (Path("sheet.toml") if str(data) == "-" else Path(f"{data.stem}.toml"))
    write_new(place, text, replace)
    typer.echo(str(place))
    for line in _study_lines(table, data):
        typer.echo(line, err=True)


def _study_lines(table: pd.DataFrame, data: Path) -> list[str]:
    """Return commands of the studies that fit the columns."""
    from millwright.studies.catalogue import offers

    found = []
    for one in offers(table):
        options = " ".join(f"--{key} {shlex.quote(value)}" for key, value in one.columns.items())
        name = one.name.replace("_", "-")
        found.append(f"  millwright study {name} {shlex.quote(str(data))} {options}")
    return ["Ready-made studies that fit these columns:", *found] if found else []
