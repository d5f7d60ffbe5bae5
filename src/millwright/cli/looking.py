"""Commands that look at a stored run: convergence, summary, figures."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import Annotated, Any

import typer

from millwright.cli.base import Json, Replace, Run, answer, app, name_of
from millwright.cli.figure_files import check_figure, write_figure
from millwright.display import frame_text
from millwright.errors import ArgumentError
from millwright.storage.place import check_new
from millwright.wording import for_shell

__all__ = ["convergence", "plot", "summary"]

Names = Annotated[
    list[str] | None, typer.Option("--name", "-n", help="A quantity or expression; repeatable.")
]
_OF_A_POSTERIOR = (
    "autocorrelation",
    "densities",
    "intervals",
    "overview",
    "scatter_matrix",
    "posterior_densities",
    "prior_posterior",
    "rank_counts",
    "running_mean",
    "trace",
)
_WITHOUT_NAMES = ("energy_changes", "leave_one_out_pit", "model_graph", "series")
_FIGURES = tuple(sorted((*_OF_A_POSTERIOR, *_WITHOUT_NAMES, "fitted_line", "predictive_check")))
_WITHOUT_PAGES = ("overview", "scatter_matrix")
# As the library lists them; it takes a second to load.
_VIEWS = (
    *("statistics", "histogram", "densities", "cumulative", "rows", "groups", "counts"),
    *("calibration", "residuals"),
)


def _refuse_idle(
    figure: str, names: Sequence[str] | None, show: str | None, along: str | None, page: int | None
) -> None:
    """Refuse options that a figure has no use for."""
    idle = {
        "--show": show is not None and figure != "predictive_check",
        "--along": along is not None and figure not in ("fitted_line", "predictive_check"),
        "--page": page is not None and (figure not in _OF_A_POSTERIOR or figure in _WITHOUT_PAGES),
        "--name": bool(names) and figure not in _OF_A_POSTERIOR,
    }
    for option, does_nothing in idle.items():
        if does_nothing:
            raise ArgumentError(f"{option} does nothing for {figure}: leave it out.")


@app.command()
def convergence(run: Run, name: Names = None, as_json: Json = False) -> None:
    """Print the verdict and the numbers behind it."""
    from millwright.cli.reports import rows_record
    from millwright.models.runs import load

    posterior = load(run)
    table = posterior.convergence_table(name)
    word = partial(for_shell, run=run)
    verdict = posterior.verdict.told(word)
    text = f"{verdict}\n\n{frame_text(_as_in_summaries(table).T)}"
    findings = [finding.record(word) for finding in posterior.verdict.findings]
    record = {
        "good": posterior.verdict.good,
        "headline": posterior.verdict.headline,
        "findings": findings,
        "numbers": rows_record(table),
    }
    answer(text, record, as_json, posterior.verdict.good)


def _as_in_summaries(table: Any) -> Any:
    """Return convergence numbers as texts, with the digits that the posterior table gives them."""
    shown = table.astype(object)
    for column in shown.columns:
        places = 3 if "R-hat" in str(column) else 0 if "effective" in str(column) else None
        if places is not None:
            shown[column] = [f"{value:.{places}f}" for value in table[column]]
    return shown


@app.command()
def summary(
    run: Run,
    name: Names = None,
    level: Annotated[float, typer.Option(help="Probability inside the interval.")] = 0.95,
    hdi: Annotated[bool, typer.Option("--hdi", help="Highest-density interval.")] = False,
    order: Annotated[
        str, typer.Option(help="definition, mean, R-hat or 'effective draws' (worst first).")
    ] = "definition",
    form: Annotated[
        str, typer.Option(help="text, markdown, html, latex or csv: the table alone.")
    ] = "",
    as_json: Json = False,
) -> None:
    """Print model, verdict and table of a stored run."""
    from millwright.cli.reports import posterior_record
    from millwright.models.runs import load

    posterior = load(run)
    kind: Any = "hdi" if hdi else "central"
    chosen: Any = order
    if form:
        shaped: Any = form
        text = posterior.summary(name, level, kind, chosen, shaped)
    else:
        table = posterior.summary(name, level, kind, chosen)
        verdict = posterior.verdict.told(partial(for_shell, run=run))
        text = f"{posterior.describe()}\n\n{verdict}\n\n{table}"
    record = posterior_record(posterior, run, level, kind) if as_json else None
    answer(text, record, as_json, posterior.verdict.good)


@app.command()
def plot(
    run: Run,
    figure: Annotated[str, typer.Argument(help=f"Which figure: {', '.join(_FIGURES)}.")],
    name: Names = None,
    out: Annotated[
        Path | None,
        typer.Option(help="File: PNG, SVG or PDF by its ending; by default RUN-FIGURE.png."),
    ] = None,
    show: Annotated[
        str | None,
        typer.Option(help=f"View of predictive_check: {', '.join(_VIEWS)}; by default the first."),
    ] = None,
    along: Annotated[
        str | None, typer.Option(help="Column: of fitted_line, or of a view of predictive_check.")
    ] = None,
    page: Annotated[int | None, typer.Option(help="Which page of a long figure, from 1.")] = None,
    replace: Replace = False,
) -> None:
    """Draw a figure of a stored run into a file."""
    from millwright import plots
    from millwright.models.runs import load

    check_figure(figure, _FIGURES)
    _refuse_idle(figure, name, show, along, page)
    place = out or Path(f"{name_of(run)}-{figure}.png")
    check_new(place, replace)
    posterior = load(run)
    draw = getattr(plots, figure)
    more = {} if page is None else {"page": page}
    if figure == "fitted_line":
        if along is None:
            raise ArgumentError("Say along which column: --along hours.")
        made = draw(posterior, along)
    elif figure == "predictive_check":
        made = draw(posterior, show=show or _VIEWS[0], along=along)
    else:
        made = draw(posterior) if figure in _WITHOUT_NAMES else draw(posterior, name, **more)
    write_figure(made, place)
    typer.echo(str(place))
