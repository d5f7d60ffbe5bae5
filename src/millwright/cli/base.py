"""What all commands share: the application, arguments that many take, and how they answer."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Annotated, Any

import typer

from millwright.errors import Interrupted
from millwright.wording import for_shell

__all__ = [
    "Data",
    "Json",
    "Quiet",
    "Replace",
    "Run",
    "Sheet",
    "Workers",
    "answer",
    "app",
    "name_of",
    "named_runs",
    "stops_told",
]

app = typer.Typer(
    name="millwright",
    help="Bayesian models from their text to a checked answer.\n\nExit status: 0 good, 1 not "
    "converged or a check failed, 2 bad input, 130 Ctrl-C.",
    add_completion=True,
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
)

Sheet = Annotated[Path, typer.Argument(help="Model sheet (TOML).")]
Data = Annotated[
    Path,
    typer.Argument(
        help="Data: CSV, TSV, JSON, Parquet or Excel, by its ending; - for CSV on standard input."
    ),
]
Json = Annotated[bool, typer.Option("--json", help="Print JSON for machines.")]
Run = Annotated[Path, typer.Argument(help="Folder of a stored run.")]
Workers = Annotated[int | None, typer.Option(help="Chains at a time; by default one a core.")]
Quiet = Annotated[bool, typer.Option("--quiet", "-q", help="No progress on standard error.")]
Replace = Annotated[bool, typer.Option("--replace", help="Overwrite what is there.")]


def answer(text: str, record: Any, as_json: bool, good: bool = True) -> None:
    """Print a result as text or as JSON, and leave with status 0, or 1 if it is not good."""
    typer.echo(json.dumps(record, indent=2, default=str) if as_json else text)
    raise typer.Exit(0 if good else 1)


@contextlib.contextmanager
def stops_told(place: Path | None) -> Iterator[None]:
    """Say how to go on after Ctrl-C."""
    try:
        yield
    except Interrupted as stop:
        typer.echo(f"Stopped. {for_shell(str(stop.args[0]), place)}", err=True)
        raise typer.Exit(130) from stop


def name_of(run: Path) -> str:
    """Return the name of a run's folder, also where it was given as `.`; of a zip its stem."""
    return run.resolve().name.removesuffix(".zip")


def named_runs(runs: Iterable[Path]) -> dict[str, Path]:
    """Return runs by the names of their folders, with a number where a name comes again."""
    result: dict[str, Path] = {}
    for run in runs:
        name = first = name_of(run)
        number = 1
        while name in result:
            number += 1
            name = f"{first} ({number})"
        result[name] = run
    return result
