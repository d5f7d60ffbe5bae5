"""The commands. What is heavy is imported inside each, so that `--help` answers at once."""

from __future__ import annotations

import signal
import sys
from collections.abc import Callable
from functools import cache, partial
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from millwright import __version__
from millwright.cli import asking, handing_on, looking, predicting, studying
from millwright.cli.base import (
    Data,
    Json,
    Quiet,
    Replace,
    Run,
    Sheet,
    Workers,
    answer,
    app,
    stops_told,
)
from millwright.cli.fit_annotations import (
    By,
    Chains,
    Draws,
    MaxDepth,
    MethodName,
    Metric,
    Missing,
    Parameterisation,
    RunFolder,
    Seed,
    Setting,
    Start,
    TargetAcceptance,
    Thin,
    Trial,
    Warmup,
)
from millwright.errors import (
    ArgumentError,
    MillwrightError,
    StorageError,
    nearest,
)
from millwright.wording import for_shell

if TYPE_CHECKING:
    from millwright.posterior.posterior import Posterior

__all__ = ["app", "asking", "handing_on", "looking", "main", "predicting", "studying"]


def _version(asked: bool) -> None:
    if asked:
        typer.echo(f"millwright {__version__}")
        raise typer.Exit


@app.callback()
def options(
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Print version.")
    ] = False,
) -> None:
    """Bayesian models from their text to a checked answer.

    Exit status: 0 good, 1 not converged or a check failed, 2 bad input, 130 Ctrl-C.
    """


@app.command()
def demo(
    scenario: Annotated[
        str,
        typer.Argument(
            help="drying (nine steps) or yeasts (two shares, a ready-made study); list names them."
        ),
    ] = "drying",
    folder: Annotated[
        Path, typer.Option(help="Folder for the figures; made if it is not there.")
    ] = Path("demo-figures"),
    quiet: Quiet = False,
) -> None:
    """Walk through an analysis of made-up data."""
    from millwright.cli.telling import terminal_teller
    from millwright.demo.walk import walk
    from millwright.demo.yeasts import walk_yeasts
    from millwright.terminal.progress import auto_listener

    scenarios = {"drying": walk, "yeasts": walk_yeasts}
    if scenario == "list":
        for name, each in scenarios.items():
            typer.echo(f"{name:10s} {(each.__doc__ or '').split(';')[0]}")
        raise typer.Exit
    if scenario not in scenarios:
        raise ArgumentError(
            f"There is no demo `{scenario}`.{nearest(scenario, scenarios)} "
            f"There are: {', '.join(scenarios)}."
        )
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise StorageError(f"The folder {folder} cannot be made: {error.strerror}.") from error
    listener = (lambda progress: None) if quiet else auto_listener()
    posterior = scenarios[scenario](folder, terminal_teller(), listener)
    raise typer.Exit(0 if posterior.verdict.good else 1)


@app.command()
def check(
    sheet: Sheet,
    data: Data,
    workers: Annotated[
        int | None, typer.Option(help="Also check that so many worker processes can be used.")
    ] = None,
    missing: Annotated[
        str | None,
        typer.Option(help="Rows without an outcome: refuse, drop or predict; by default refuse."),
    ] = None,
    calibrate: Annotated[
        int | None,
        typer.Option(
            help="Simulate so many data sets from the priors, fit each, and check that the truth "
            "is found; 200 show gross errors."
        ),
    ] = None,
    seed: Annotated[int, typer.Option(help="With --calibrate: any whole number.")] = 0,
    as_json: Json = False,
    quiet: Quiet = False,
) -> None:
    """Check a sheet against data without sampling; settings in [fit] count for the estimate.

    With --calibrate data sets are simulated and sampled, in place of the usual check.
    """
    from millwright.cli.checking import check as look
    from millwright.cli.data_files import SHEETS, found, read_data
    from millwright.models.model import Model

    if workers is not None and workers < 1:
        raise ArgumentError(f"--workers must be 1 or more, not {workers}.")
    model = Model.read(found(sheet, SHEETS))
    planned = model.fit_settings | ({} if missing is None else {"missing": missing})
    if calibrate is not None:
        _calibrate(model, read_data(data), calibrate, seed, as_json, quiet)
    report = look(model, read_data(data), workers or 0, planned)
    answer(str(report), report.record, as_json, report.good)


def _calibrate(
    model: Any, table: Any, replications: int, seed: int, as_json: bool, quiet: bool
) -> None:
    found = model.calibration(table, replications=replications, seed=seed, progress=not quiet)
    answer(str(found), found.record, as_json, found.calibrated)


@app.command()
def fit(
    sheet: Sheet,
    data: Data,
    run: RunFolder = None,
    by: By = None,
    chains: Chains = None,
    draws: Draws = None,
    warmup: Warmup = None,
    thin: Thin = None,
    trial: Trial = False,
    seed: Seed = None,
    target_acceptance: TargetAcceptance = None,
    method: MethodName = None,
    metric: Metric = None,
    max_depth: MaxDepth = None,
    setting: Setting = None,
    parameterisation: Parameterisation = None,
    start: Start = None,
    workers: Workers = None,
    missing: Missing = None,
    replace: Replace = False,
    resume: Annotated[
        bool,
        typer.Option("--resume", help="With --by: keep the fits that are there, make the others."),
    ] = False,
    as_json: Json = False,
    quiet: Quiet = False,
) -> None:
    """Sample, store the run, print verdict and table.

    Settings that are not given here are taken from the table [fit] of the sheet. With --by, each
    data set is stored as a run of its own inside the folder.
    """
    from millwright.cli.data_files import SHEETS, found, read_data
    from millwright.cli.fit_options import fit_options
    from millwright.models.model import Model

    sheet = found(sheet, SHEETS)
    place = run or Path(f"{sheet.stem}-run")
    model, table = Model.read(sheet), read_data(data)
    given = {
        "chains": chains,
        "draws": draws,
        "warmup": warmup,
        "thin": thin,
        "seed": seed,
        "target_acceptance": target_acceptance,
        "method": method,
        "metric": metric,
        "max_depth": max_depth,
        "workers": workers,
        "missing": missing,
    }
    settings = fit_options(
        model.fit_settings, given, setting or (), parameterisation or (), start or ()
    )
    settings |= {"trial": trial, "progress": not quiet, "save": place, "replace": replace}
    if by is not None:
        _fit_each(model, table, by, settings | {"resume": resume}, as_json)
    if resume:
        raise ArgumentError(
            f"--resume goes with --by; one run goes on by: millwright resume {place}"
        )
    with stops_told(place):
        posterior = model.fit(table, **settings)
    typer.echo(f"Run stored in {place}", err=True)
    _show(posterior, place, as_json)


def _fit_each(model: Any, table: Any, by: str, settings: dict[str, Any], as_json: bool) -> None:
    """Fit each data set of a table; print verdicts and a table for each single unknown."""
    from millwright.cli.many import many_record, many_text

    place = settings["save"]
    with stops_told(place):
        found = model.fit_each(table, by=by, **settings)
    typer.echo(f"Runs stored in {place}", err=True)
    answer(many_text(found), many_record(found) if as_json else None, as_json, found.good)


def _show(posterior: Posterior, run: Path, as_json: bool) -> None:
    """Print verdict and table."""
    from millwright.cli.reports import posterior_record

    text = f"{posterior.verdict.told(partial(for_shell, run=run))}\n\n{posterior.summary()}"
    record = posterior_record(posterior, run) if as_json else None
    answer(text, record, as_json, posterior.verdict.good)


@app.command()
def resume(run: Run, workers: Workers = None, as_json: Json = False, quiet: Quiet = False) -> None:
    """Go on with a run after a crash or Ctrl-C."""
    _go_on(run, None, workers, as_json, quiet)


@app.command()
def extend(
    run: Run,
    draws: Annotated[int, typer.Argument(help="How many more draws, each chain.")],
    workers: Workers = None,
    as_json: Json = False,
    quiet: Quiet = False,
) -> None:
    """Add draws to a stored run; print verdict and table."""
    from millwright.fitting.record import Origin
    from millwright.models.runs import load

    if draws < 1:
        raise ArgumentError(f"The number of draws must be 1 or more, not {draws}.")
    found = load(run).record
    if found.origin is Origin.SWEEPS:
        _more_sweeps(run, draws, as_json, quiet)
        return
    planned = int(found.settings["draws"])
    _go_on(run, planned + draws, workers, as_json, quiet)


def _more_sweeps(folder: Path, draws: int, as_json: bool, quiet: bool) -> None:
    """Go on with a stored study that makes sweeps of its own, and store all of it again."""
    from millwright.cli.study_call import tell
    from millwright.studies.stored import load

    longer = load(folder).extend(draws, progress=not quiet)
    longer.save(folder, replace=True)
    tell(longer, None, None, as_json)


def _go_on(run: Path, draws: int | None, workers: int | None, as_json: bool, quiet: bool) -> None:
    from millwright.models.runs import resume as go_on

    with stops_told(run):
        posterior = go_on(run, draws=draws, workers=workers, progress=not quiet)
    _show(posterior, run, as_json)


# In the order in which they are used.
_ORDER = (
    *(
        "demo",
        "new",
        "study",
        "check",
        "simulate",
        "fit",
        "resume",
        "extend",
        "convergence",
    ),
    *("summary", "plot", "ask", "sensitivity", "predict", "compare", "report", "export"),
)
app.registered_commands.sort(
    key=lambda command: _ORDER.index(getattr(command.callback, "__name__", ""))
)


@cache
def _command() -> Callable[[], Any]:
    """Return all commands as one; reading their signatures takes a tenth of a second."""
    return typer.main.get_command(app)


def main() -> None:
    """Run the command line: exit status 0 good, 1 not converged, 2 bad input, 130 Ctrl-C."""
    try:
        _command()()
    except MillwrightError as error:
        typer.echo(f"Error: {error.told(for_shell)}", err=True)
        sys.exit(2)
    except KeyboardInterrupt as stop:
        # Another Ctrl-C while this is said would end in a traceback.
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        said = for_shell(str(stop.args[0])) if stop.args else ""
        typer.echo(f"Stopped. {said}".strip(), err=True)
        sys.exit(130)
