"""The command for ready-made studies."""

from __future__ import annotations

import inspect
from pathlib import Path
from typing import Annotated

import typer

from millwright.cli.base import Json, Quiet, Replace, Workers, app
from millwright.cli.curve_words import sizes_of
from millwright.cli.fit_annotations import Chains, Draws, MethodName, Seed, Setting, Thin, Warmup
from millwright.cli.study_call import (
    STUDIES,
    check_ahead,
    fitted_study,
    forecast_of,
    made_study,
    refuse_idle,
    refuse_of_graph,
    stored_study,
    tell,
)
from millwright.cli.study_words import region_of

__all__ = ["study"]


@app.command()
def study(
    name: Annotated[str, typer.Argument(help=f"{STUDIES}; or the folder of a stored study.")],
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
    conjugate: Annotated[
        bool, typer.Option("--conjugate", help="Of several series: the prior of a closed form.")
    ] = False,
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
        "conjugate": conjugate or None,
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
        refuse_of_graph(*how, prior, plan or None, sheet, save, hdi or other)
        around = {} if rope is None else {"rope": region_of("rope", rope)}
        causal(asked_of_graph(data, {**stated, **around}, seed or 0), figure, report, as_json)
        return
    if data is None and (Path(name) / STUDY_FILE).is_file():
        idle = [*stated, *settings]
        refuse_idle(name, [*idle, *["prior"] * bool(prior), *["save"] * bool(save)])
        found = stored_study(Path(name), quiet)
    else:
        made = made_study(name, data, stated, prior or (), inspect.signature(study).parameters)
        check_ahead(made, ahead)
        if sheet is not None:
            typer.echo(str(made.write(sheet, replace)))
            return
        if plan:
            typer.echo(f"{made}\n\n{made.simulate(seed=seed or 0)}")
            return
        if made.told_first and not as_json:
            typer.echo(f"{made.told_first}\n")
        found = fitted_study(made, settings, save, replace, quiet)
    told = found.with_interval(level, "hdi" if hdi else "central")
    tell(told, figure, report, as_json, forecast_of(told, ahead, seed or 0))
