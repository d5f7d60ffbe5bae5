"""Commands about data: simulating, predicting, comparing."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from millwright.cli.base import Data, Json, Replace, Run, Sheet, answer, app, named_runs
from millwright.cli.figure_files import check_figure, write_figure
from millwright.cli.pairs import pairs
from millwright.display import frame_text
from millwright.errors import ArgumentError, StorageError
from millwright.storage.place import check_new

if TYPE_CHECKING:
    from millwright.draws.simulated import Simulated

__all__ = ["compare", "predict", "simulate"]

_OF_A_PRIOR = ("prior_densities", "prior_data", "prior_lines")


@app.command()
def simulate(
    sheet: Sheet,
    data: Annotated[
        Path | None, typer.Argument(help="Data with the predictors; - for standard input.")
    ] = None,
    rows: Annotated[
        int | None, typer.Option(help="Number of rows of a model without predictors.")
    ] = None,
    draws: Annotated[int, typer.Option(help="How many data sets.")] = 500,
    seed: Annotated[int, typer.Option(help="Any whole number from 0.")] = 0,
    out: Annotated[Path | None, typer.Option(help="CSV file for the first data set.")] = None,
    given: Annotated[
        list[str] | None,
        typer.Option(help="Hold an unknown at a value, such as drying=-0.5; can be repeated."),
    ] = None,
    figure: Annotated[
        list[str] | None,
        typer.Option(
            help="Draw prior_densities, prior_data or, with --along, prior_lines into "
            "SHEET-FIGURE.png; can be repeated."
        ),
    ] = None,
    along: Annotated[str | None, typer.Option(help="Column of prior_lines.")] = None,
    replace: Replace = False,
    as_json: Json = False,
) -> None:
    """Draw data sets from the priors, and say what they look like."""
    from millwright.cli.data_files import SHEETS, found, read_data
    from millwright.cli.reports import rows_record
    from millwright.models.model import Model

    sheet = found(sheet, SHEETS)
    places = {name: Path(f"{sheet.stem}-{name}.png") for name in figure or ()}
    for name, place in places.items():
        check_figure(name, _OF_A_PRIOR)
        check_new(place, replace)
    if "prior_lines" in places and along is None:
        raise ArgumentError("Say along which column: --along hours.")
    if along is not None and "prior_lines" not in places:
        raise ArgumentError("--along does nothing without --figure prior_lines: leave it out.")
    table = None if data is None else read_data(data)
    held = pairs("given", given or (), "drying=-0.5")
    for name, value in held.items():
        if isinstance(value, str):
            raise ArgumentError(f"--given {name}={value}: the value must be a number.")
    fake = Model.read(sheet).simulate(table, draws=draws, seed=seed, rows=rows, given=held)
    if out is not None:
        _to_csv(fake.data(0), out, replace)
    for name, place in places.items():
        _draw_prior(fake, name, along, place)
    answer(str(fake), rows_record(fake.table()), as_json)


def _draw_prior(fake: Simulated, name: str, along: str | None, place: Path) -> None:
    """Write a figure of the prior and say where."""
    from millwright import plots

    draw = getattr(plots, name)
    write_figure(draw(fake, along) if name == "prior_lines" else draw(fake), place)
    typer.echo(f"Written: {place}", err=True)


def _to_csv(frame: Any, out: Path, replace: bool) -> None:
    if not hasattr(frame, "to_csv"):
        raise ArgumentError("Data of several tables cannot be written as one CSV file.")
    check_new(out, replace)
    try:
        frame.to_csv(out, index=False)
    except OSError as error:
        raise StorageError(f"{out} cannot be written: {error.strerror}.") from error
    typer.echo(f"Written: {out}", err=True)


@app.command()
def predict(
    run: Run,
    data: Data,
    new_labels: Annotated[
        str, typer.Option(help="Levels of groups that the fit has not seen: refuse or draw.")
    ] = "refuse",
    level: Annotated[float, typer.Option(help="Probability inside the interval.")] = 0.95,
    score: Annotated[
        bool, typer.Option("--score", help="Compare with the outcomes in the data.")
    ] = False,
    out: Annotated[Path | None, typer.Option(help="CSV file for the table.")] = None,
    replace: Replace = False,
    as_json: Json = False,
) -> None:
    """Predict new rows with a stored run."""
    from millwright.cli.data_files import read_data
    from millwright.cli.reports import list_record, rows_record
    from millwright.models.runs import load

    table = read_data(data)
    chosen: Any = new_labels
    predictions = load(run).predict(table, new_labels=chosen)
    frame = predictions.table(level=level)
    found = predictions.score(table) if score else None
    if out is not None:
        _to_csv(frame.reset_index(), out, replace)
    if found is not None:
        answer(str(found), rows_record(found.frame), as_json)
    text = frame_text(frame, most=60)
    answer(text, list_record(frame), as_json)


@app.command()
def compare(
    runs: Annotated[list[Path], typer.Argument(help="Two or more stored runs of the same data.")],
    by: Annotated[
        str,
        typer.Option(
            help="leave_one_out: how well each predicts; evidence: how probable the data are "
            "under each, with Bayes factors."
        ),
    ] = "leave_one_out",
    repair: Annotated[
        bool,
        typer.Option(
            help="Fit again without single rows where leave-one-out needs it (the default)."
        ),
    ] = True,
    left_out: Annotated[
        str | None,
        typer.Option(
            help="In place of single rows leave out each group of this column of the model."
        ),
    ] = None,
    folds: Annotated[
        int | None, typer.Option(help="In place of single rows leave out so many parts in turn.")
    ] = None,
    as_json: Json = False,
) -> None:
    """Compare stored runs by leave-one-out, or by their evidences.

    The quantities that they have in common stand below.
    """
    from millwright.cli.reports import rows_record
    from millwright.comparison.bayes_factors import weighed
    from millwright.comparison.compare import compared
    from millwright.comparison.estimates import compare_estimates
    from millwright.models.runs import load

    if by not in ("leave_one_out", "evidence"):
        raise ArgumentError(f"--by must be leave_one_out or evidence, not {by!r}.")
    posteriors: dict[str, Any] = {name: load(run) for name, run in named_runs(runs).items()}
    if by == "evidence" and (left_out is not None or folds is not None):
        raise ArgumentError("--left-out and --folds go with --by leave_one_out.")
    if by == "evidence":
        weighed_models = weighed(posteriors)
        across = compare_estimates(None, **posteriors)
        record = {**weighed_models.record, "quantities": rows_record(across.table)}
        answer(f"{weighed_models}\n\n{across}", record, as_json, weighed_models.trusted)
    found = compared(posteriors, repair, folds, left_out)
    across = compare_estimates(None, **posteriors)
    way = "leave_one_out" if left_out is None and folds is None else "cross_validation"
    record = {
        way: rows_record(found.table()),
        "quantities": rows_record(across.table),
    }
    answer(f"{found}\n\n{across}", record, as_json)
