"""The command for ready-made studies."""

from __future__ import annotations

import inspect
from collections.abc import Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from millwright.cli.base import Json, Quiet, Replace, Workers, answer, app, stops_told
from millwright.cli.curve_words import curve_in, sizes_of
from millwright.cli.fit_annotations import Chains, Draws, MethodName, Seed, Setting, Thin, Warmup
from millwright.cli.study_words import equations_in, of_candidates, per_of, priors_of, region_of
from millwright.errors import ArgumentError, nearest
from millwright.wording import for_shell

if TYPE_CHECKING:
    from millwright.studies.autoregression_ahead import Forecast
    from millwright.studies.findings import Findings
    from millwright.studies.study import Study

__all__ = ["study"]

_NAMES = (
    "one-group, two-groups, paired, proportions, correlation, regression, meta-analysis, "
    "variable-selection, vector-autoregression, series, expectations-model, "
    "curve, smooth or causal"
)
_REGIONS = ("rope", "effect_rope")


@app.command()
def study(
    name: Annotated[str, typer.Argument(help=f"{_NAMES}; or the folder of a stored study.")],
    data: Annotated[
        Path | None,
        typer.Argument(help="Data: CSV, TSV, JSON, Parquet or Excel; - for standard input."),
    ] = None,
    formula: Annotated[
        list[str] | None,
        typer.Option(help="Of a regression: 'moisture ~ hours + loft'; several are compared."),
    ] = None,
    per: Annotated[
        list[str] | None,
        typer.Option(
            help="Group effects of a regression: 'stone=1 + hours'; repeatable. Of a "
            "meta-analysis the column of trials that have several estimates."
        ),
    ] = None,
    link: Annotated[str | None, typer.Option(help="Link of a regression.")] = None,
    zeros: Annotated[
        str | None, typer.Option(help="Of counts in a regression: inflated or hurdle.")
    ] = None,
    censored_low: Annotated[
        float | None, typer.Option(help="Outcomes at or below were not told apart.")
    ] = None,
    censored_high: Annotated[
        float | None, typer.Option(help="Outcomes at or above were not told apart.")
    ] = None,
    scale: Annotated[
        str | None,
        typer.Option(
            help="Formula of a regression's noise: '~ loft'; of a meta-analysis the scale of "
            "the estimates, such as 'log odds ratio'."
        ),
    ] = None,
    exposure: Annotated[str | None, typer.Option(help="Column of exposures of counts.")] = None,
    offset: Annotated[
        str | None, typer.Option(help="Column added to the predictor as it is.")
    ] = None,
    weights: Annotated[str | None, typer.Option(help="Column that divides the variance.")] = None,
    flat: Annotated[bool, typer.Option("--flat", help="Flat priors are meant.")] = False,
    outcome: Annotated[str | None, typer.Option(help="Column of values or successes.")] = None,
    group: Annotated[str | None, typer.Option(help="Column of labels.")] = None,
    trials: Annotated[str | None, typer.Option(help="Column of all trials.")] = None,
    first: Annotated[str | None, typer.Option(help="First of two columns.")] = None,
    second: Annotated[str | None, typer.Option(help="Second of two columns.")] = None,
    columns: Annotated[
        list[str] | None, typer.Option(help="A column of several; repeatable.")
    ] = None,
    labels: Annotated[
        list[str] | None, typer.Option(help="A label to use, in this order; repeatable.")
    ] = None,
    against: Annotated[float | None, typer.Option(help="A value to compare with.")] = None,
    yes: Annotated[str | None, typer.Option(help="The answer that is a success.")] = None,
    family: Annotated[str | None, typer.Option(help="Distribution of the values.")] = None,
    form: Annotated[str | None, typer.Option(help="normal, ranks or robust.")] = None,
    width: Annotated[float | None, typer.Option(help="Width of a correlation's prior.")] = None,
    direction: Annotated[str | None, typer.Option(help="both, positive or negative.")] = None,
    pooled: Annotated[bool, typer.Option("--pooled", help="Groups around a common base.")] = False,
    rope: Annotated[
        str | None, typer.Option(help="Region of practical equivalence: 'LOW to HIGH'.")
    ] = None,
    effect_rope: Annotated[
        str | None, typer.Option(help="That of the standardised effect; 'none' for none.")
    ] = None,
    effect: Annotated[str | None, typer.Option(help="Prior of the effect.")] = None,
    spread: Annotated[str | None, typer.Option(help="Prior of the spread between trials.")] = None,
    null: Annotated[
        str | None, typer.Option(help="A narrow prior that stands for no effect.")
    ] = None,
    unit: Annotated[float | None, typer.Option(help="How large a large effect is.")] = None,
    estimate: Annotated[str | None, typer.Option(help="Column of the trials' estimates.")] = None,
    standard_error: Annotated[
        str | None, typer.Option(help="Column of their standard errors.")
    ] = None,
    label: Annotated[str | None, typer.Option(help="Column of the trials' names.")] = None,
    order: Annotated[
        str | None, typer.Option(help="Column by which trials came in, such as a year.")
    ] = None,
    size: Annotated[str | None, typer.Option(help="Column of the trials' sizes.")] = None,
    covariates: Annotated[
        str | None, typer.Option(help="Formula of what effects lean on: '~ heat + grain'.")
    ] = None,
    slope: Annotated[
        str | None, typer.Option(help="Normal prior of the slopes of covariates.")
    ] = None,
    correlation: Annotated[
        float | None, typer.Option(help="Of the errors of estimates of one trial.")
    ] = None,
    bias: Annotated[
        str | None,
        typer.Option(
            help="Whether trials stayed unpublished: positive or negative, the results hoped for."
        ),
    ] = None,
    candidates: Annotated[
        list[str] | None,
        typer.Option(help="A candidate column; repeatable; or a formula '~ a + b + a:b'."),
    ] = None,
    always: Annotated[
        list[str] | None, typer.Option(help="A candidate that is always in; repeatable.")
    ] = None,
    exclusive: Annotated[
        list[str] | None,
        typer.Option(help="Candidates of which at most one is in: 'A | B'; repeatable."),
    ] = None,
    g: Annotated[
        str | None,
        typer.Option(help="g-prior: n, k^2, 'max(n, k^2)', a number, hyper-g or hyper-g/n."),
    ] = None,
    expected_size: Annotated[
        float | None, typer.Option(help="Expected number of candidates in the model.")
    ] = None,
    region: Annotated[
        float | None,
        typer.Option(help="With a horseshoe: a slope for one sd beyond this is in."),
    ] = None,
    search: Annotated[
        str | None, typer.Option(help="all subsets, or a walk; by default what can be done.")
    ] = None,
    steps: Annotated[
        int | None,
        typer.Option(
            help="Of a variable selection: steps of all walks together; of a curve: draws kept of "
            "each walker or chain."
        ),
    ] = None,
    burn_in: Annotated[int | None, typer.Option(help="Steps before they are counted.")] = None,
    walks: Annotated[int | None, typer.Option(help="How many walks.")] = None,
    kept: Annotated[int | None, typer.Option(help="How many of the best subsets to keep.")] = None,
    parts: Annotated[
        str | None,
        typer.Option(help="Of one series: 'level + trend + season(12) + cycle(40) + hours'."),
    ] = None,
    series: Annotated[
        list[str] | None, typer.Option(help="A series of several; repeatable.")
    ] = None,
    time: Annotated[str | None, typer.Option(help="Column of dates or numbers, sorted.")] = None,
    lags: Annotated[int | None, typer.Option(help="How many readings before each time.")] = None,
    others: Annotated[
        list[str] | None, typer.Option(help="A column that explains all series; repeatable.")
    ] = None,
    drift: Annotated[
        float | None, typer.Option(help="How far coefficients may wander; 0 for constant ones.")
    ] = None,
    error_drift: Annotated[
        float | None,
        typer.Option(help="How far log sds of errors may wander; 0 for constant ones."),
    ] = None,
    constant: Annotated[
        list[str] | None,
        typer.Option(help="A term that does not drift: 'level', 'flow, 1 before'; repeatable."),
    ] = None,
    tightness: Annotated[
        float | None, typer.Option(help="Prior sd of a series' slope on its own last reading.")
    ] = None,
    cross: Annotated[
        float | None, typer.Option(help="That on other series, over that on its own.")
    ] = None,
    first_lag: Annotated[
        float | None, typer.Option(help="Prior mean of the slope on its own last reading.")
    ] = None,
    equations: Annotated[
        Path | None,
        typer.Option(
            help="TOML file of equations with expectations: `equations`, a text with one a line, "
            "and tables [unknowns], [shocks], [readings], [errors]."
        ),
    ] = None,
    curve: Annotated[
        Path | None,
        typer.Option(
            help="TOML file of a curve: [curve] with formula, x, y and error, and [unknowns] with "
            "a range, a prior or a number for each."
        ),
    ] = None,
    code: Annotated[
        str | None,
        typer.Option(
            help="FILE.py:NAME, the function of a curve in place of a formula. The file is run as "
            "Python code."
        ),
    ] = None,
    x: Annotated[
        list[str] | None,
        typer.Option(
            help="Column along which a curve or a shape is asked for; of a shape repeatable."
        ),
    ] = None,
    y: Annotated[str | None, typer.Option(help="Column that is read.")] = None,
    error: Annotated[str | None, typer.Option(help="Column of the standard errors of y.")] = None,
    kernel: Annotated[
        str | None, typer.Option(help="Of a shape: squared_exponential, matern52 or matern32.")
    ] = None,
    nodes: Annotated[
        int | None,
        typer.Option(help="Of a shape: gather the rows at so many nodes; 0 for every row."),
    ] = None,
    walkers: Annotated[
        int | None, typer.Option(help="Of a curve: walkers of its ensemble, an even number.")
    ] = None,
    ahead: Annotated[
        int | None, typer.Option(help="Of one series or several: forecast so many steps.")
    ] = None,
    graph: Annotated[
        Path | None,
        typer.Option(
            help="File of a causal graph: a line 'cause -> effect' for each arrow, 'a <-> b' for "
            "a common cause that is not observed, 'unobserved: a, b'; # begins a comment."
        ),
    ] = None,
    effect_of: Annotated[str | None, typer.Option(help="Exposure in a causal graph.")] = None,
    on: Annotated[str | None, typer.Option(help="Outcome in a causal graph.")] = None,
    direct: Annotated[
        bool, typer.Option("--direct", help="The effect of the arrow alone, not the total one.")
    ] = False,
    given: Annotated[
        list[str] | None, typer.Option(help="Adjust for this variable; repeatable.")
    ] = None,
    prior: Annotated[
        list[str] | None,
        typer.Option(
            help="A prior: NAME='normal(0, 1)', of a share LABEL='...', of a meta-analysis' model "
            "MODEL=PROBABILITY, of a candidate NAME=PROBABILITY; of subsets beta-binomial, "
            "uniform, horseshoe or a probability; repeatable."
        ),
    ] = None,
    same: Annotated[str | None, typer.Option(help="Prior of one share for all groups.")] = None,
    overdispersion: Annotated[
        str | None, typer.Option(help="Prior of the over-dispersion of rows.")
    ] = None,
    concentration: Annotated[
        float | None, typer.Option(help="Of the Dirichlet prior of pairs of answers.")
    ] = None,
    missing: Annotated[
        str | None, typer.Option(help="Rows with gaps: refuse, drop, of correlations pairs.")
    ] = None,
    chains: Chains = None,
    draws: Draws = None,
    warmup: Warmup = None,
    thin: Thin = None,
    seed: Seed = None,
    method: MethodName = None,
    setting: Setting = None,
    workers: Workers = None,
    level: Annotated[float, typer.Option(help="Probability inside the intervals.")] = 0.95,
    hdi: Annotated[bool, typer.Option("--hdi", help="Highest-density intervals.")] = False,
    plan: Annotated[
        bool,
        typer.Option(
            "--plan", help="Print models and what their priors allow, and sample nothing."
        ),
    ] = False,
    sheet: Annotated[
        Path | None, typer.Option(help="Write model sheets and data there, and sample nothing.")
    ] = None,
    save: Annotated[Path | None, typer.Option(help="Folder to store the study in.")] = None,
    figure: Annotated[
        Path | None, typer.Option(help="File for the study's figure: PNG, SVG or PDF.")
    ] = None,
    report: Annotated[Path | None, typer.Option(help="Write one HTML page.")] = None,
    replace: Replace = False,
    as_json: Json = False,
    quiet: Quiet = False,
) -> None:
    """Answer a question by a ready-made study of columns, or tell a stored one again."""
    from millwright.storage.place import STUDY_FILE, check_new

    for place in (figure, report):
        if place is not None:
            check_new(place, replace)
    options = {
        "formula": formula or None,
        "per": per or None,
        "covariates": covariates,
        "slope": slope,
        "correlation": correlation,
        "link": link,
        "zeros": zeros,
        "censored_low": censored_low,
        "censored_high": censored_high,
        "scale": scale,
        "exposure": exposure,
        "offset": offset,
        "weights": weights,
        "flat": flat or None,
        "outcome": outcome,
        "group": group,
        "trials": trials,
        "first": first,
        "second": second,
        "columns": columns or None,
        "labels": labels or None,
        "against": against,
        "yes": yes,
        "family": family,
        "form": form,
        "width": width,
        "direction": direction,
        "pooled": pooled or None,
        "rope": rope,
        "effect_rope": effect_rope,
        "effect": effect,
        "spread": spread,
        "null": null,
        "unit": unit,
        "estimate": estimate,
        "standard_error": standard_error,
        "label": label,
        "order": order,
        "size": size,
        "bias": bias,
        "same": same,
        "overdispersion": overdispersion,
        "concentration": concentration,
        "candidates": candidates or None,
        "always": always or None,
        "exclusive": exclusive or None,
        "g": g,
        "expected_size": expected_size,
        "region": region,
        "search": search,
        "steps": steps,
        "burn_in": burn_in,
        "walks": walks,
        "kept": kept,
        "missing": missing,
        "parts": parts,
        "series": series or None,
        "time": time,
        "lags": lags,
        "others": others or None,
        "drift": drift,
        "error_drift": error_drift,
        "constant": constant or None,
        "tightness": tightness,
        "cross": cross,
        "first_lag": first_lag,
        "equations": equations,
        "curve": curve,
        "code": code,
        "walkers": walkers,
        "x": (x[0] if len(x) == 1 else x) if x else None,
        "y": y,
        "error": error,
        "kernel": kernel,
        "nodes": nodes,
        "graph": graph,
        "effect_of": effect_of,
        "on": on,
        "direct": direct or None,
        "given": given or None,
    }
    stated = {option: value for option, value in options.items() if value is not None}
    from millwright.cli.fit_options import fit_options

    asked = {"seed": seed, "chains": chains, "draws": draws, "warmup": warmup, "method": method}
    if name == "curve":
        asked |= sizes_of(stated, chains, draws)
    settings = fit_options({}, {**asked, "thin": thin, "workers": workers}, setting or (), ())
    if name == "causal":
        from millwright.cli.causing import asked_of_graph, causal

        other = None if level == 0.95 else level
        how = (chains, draws, warmup, thin, method, workers, setting)
        _refuse_of_graph(*how, prior, plan or None, sheet, save, hdi or other)
        around = {} if rope is None else {"rope": region_of("rope", rope)}
        causal(asked_of_graph(data, {**stated, **around}, seed or 0), figure, report, as_json)
        return
    if data is None and (Path(name) / STUDY_FILE).is_file():
        idle = [*stated, *settings]
        _refuse_idle(name, [*idle, *["prior"] * bool(prior), *["save"] * bool(save)])
        found = _stored(Path(name), quiet)
    else:
        made = _made(name, data, stated, prior or ())
        _check_ahead(made, ahead)
        if sheet is not None:
            typer.echo(str(made.write(sheet, replace)))
            return
        if plan:
            typer.echo(f"{made}\n\n{made.simulate(seed=seed or 0)}")
            return
        if made.told_first and not as_json:
            typer.echo(f"{made.told_first}\n")
        found = _fitted(made, settings, save, replace, quiet)
    told = found.with_interval(level, "hdi" if hdi else "central")
    tell(told, figure, report, as_json, _forecast(told, ahead, seed or 0))


def _refuse_idle(name: str, options: Sequence[str]) -> None:
    """Refuse options that a stored study has no use for: they would seem to have been heard."""
    if options:
        raise ArgumentError(
            f"{name} is a stored study, which is only told again: leave "
            f"--{options[0].replace('_', '-')} out, or name the study and its data file."
        )


def _refuse_of_graph(*idle: Any) -> None:
    """Refuse settings that regressions of a causal graph do not take from the shell."""
    if any(one is not None and one != [] for one in idle):
        raise ArgumentError(
            "A causal graph takes none of --chains, --draws, --warmup, --thin, --method, "
            "--setting, --workers, --prior, --plan, --sheet, --save, --level and --hdi: its "
            "regressions are ordinary studies, for millwright study regression."
        )


def _stored(folder: Path, quiet: bool) -> Findings:
    """Return a stored study; one that was stopped goes on to its end."""
    from millwright.studies.folder import StudyFolder
    from millwright.studies.stored import load, resume

    if StudyFolder(folder).finished:
        return load(folder)
    with stops_told(folder):
        return resume(folder, progress=not quiet)


def _made(name: str, data: Path | None, given: Mapping[str, Any], priors: Sequence[str]) -> Study:
    """Return the study, with the options that it takes."""
    from millwright.cli.data_files import read_data
    from millwright.studies.catalogue import PLACES, arguments_of, function_of

    key = name.replace("-", "_")
    if key not in PLACES:
        raise ArgumentError(
            f"There is no study `{name}`, and no stored one of that name.{nearest(key, PLACES)} "
            f"Studies: {_NAMES}."
        )
    if data is None:
        raise ArgumentError(f"Name the data file: millwright study {name} DATA.")
    known = arguments_of(key)
    stated = curve_in(given) if key == "curve" else dict(given)
    for option in stated:
        if option not in known:
            from_shell = inspect.signature(study).parameters
            own = ("curve", "code", "walkers", "steps") if key == "curve" else ()
            named = (one for one in (*own, *known) if one in from_shell)
            takes = ", ".join(f"--{one.replace('_', '-')}" for one in named)
            raise ArgumentError(
                f"The study {name} takes no --{option.replace('_', '-')}. It takes: {takes}."
            )
    for option in _REGIONS:
        if option in stated:
            stated[option] = region_of(option, str(stated[option]))
    if key == "expectations_model":
        if "equations" not in stated:
            raise ArgumentError(
                f"Give the equations: millwright study {name} DATA --equations FILE."
            )
        stated |= equations_in(stated["equations"])
    if "per" in stated:
        stated["per"] = per_of(key, stated["per"])
    stated |= of_candidates(stated)
    if "parts" in known and "parts" not in stated:
        raise ArgumentError(
            f"Say what it is made of: millwright study {name} DATA --parts 'level + season(12)'."
        )
    if "formula" in known and "formula" not in stated:
        raise ArgumentError(
            f"Give a formula: millwright study {name} DATA --formula 'outcome ~ predictor'."
        )
    of_shell = priors_of(key, priors, known)
    if "priors" in stated:
        of_shell = {"priors": {**stated.pop("priors"), **of_shell.get("priors", {})}}
    return function_of(key)(data=read_data(data), **stated, **of_shell)


def _fitted(
    made: Study, settings: Mapping[str, Any], save: Path | None, replace: bool, quiet: bool
) -> Findings:
    with stops_told(save):
        found = made.fit(save=save, replace=replace, progress=not quiet, **settings)
    if save is not None:
        typer.echo(f"Study stored in {save}", err=True)
    return found


def _check_ahead(made: Study, ahead: int | None) -> None:
    """Refuse a forecast that could not be made, before anything is sampled.

    Raises
    ------
    ArgumentError
        For a study without one, or with columns whose values are not known ahead.
    """
    from millwright.checks import check_whole

    if ahead is None:
        return
    check_whole("--ahead", ahead, 1)
    needed = getattr(made, "needed_ahead", None)
    if needed is None:
        raise ArgumentError(f"--ahead is for series, not for the study {made.kind}.")
    if needed:
        raise ArgumentError(
            f"--ahead needs values of {', '.join(needed)} to come, which the shell cannot give: "
            "in Python, findings.forecast(steps, others={...})."
        )


def _forecast(found: Findings, ahead: int | None, seed: int) -> Forecast | None:
    """Return a forecast where it was asked for."""
    if ahead is None:
        return None
    _check_ahead(found.study, ahead)
    forecast: Forecast = found.forecast(ahead, seed=seed)  # type: ignore[attr-defined]
    return forecast


def tell(
    found: Findings,
    figure: Path | None,
    report: Path | None,
    as_json: bool,
    forecast: Forecast | None = None,
) -> None:
    """Print what a study found, and write its figure and its page where they were asked for."""
    from millwright.cli.reports import list_record, rows_record

    if figure is not None:
        from millwright import plots
        from millwright.cli.figure_files import write_figure

        write_figure(plots.study(found), figure)
        typer.echo(f"Figure: {figure}", err=True)
    if report is not None:
        found.report(report, replace=True)
        typer.echo(f"Page: {report}", err=True)
    record = None
    if as_json:
        findings = [one.record(partial(for_shell)) for one in found.verdict.findings]
        record = {**found.record, "findings": findings, "table": rows_record(found.table())}
        if forecast is not None:
            record["forecast"] = list_record(forecast.table())
    words = found.told(for_shell)
    if forecast is not None:
        words += f"\n\n{forecast}"
    answer(words, record, as_json, found.verdict.good)
