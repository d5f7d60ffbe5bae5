"""What the command for ready-made studies does: the study made, fitted or loaded, and told."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from millwright.cli.base import answer, stops_told
from millwright.cli.curve_words import curve_in
from millwright.cli.study_words import equations_in, of_candidates, per_of, priors_of, region_of
from millwright.errors import ArgumentError, nearest
from millwright.wording import for_shell

if TYPE_CHECKING:
    from millwright.studies.autoregression_ahead import Forecast
    from millwright.studies.findings import Findings
    from millwright.studies.study import Study

__all__ = [
    "STUDIES",
    "check_ahead",
    "fitted_study",
    "forecast_of",
    "made_study",
    "refuse_idle",
    "refuse_of_graph",
    "stored_study",
    "tell",
]

STUDIES = (
    "one-group, two-groups, paired, proportions, correlation, regression, meta-analysis, "
    "variable-selection, vector-autoregression, series, expectations-model, "
    "curve, smooth or causal"
)
_REGIONS = ("rope", "effect_rope")


def refuse_idle(name: str, options: Sequence[str]) -> None:
    """Refuse options that a stored study has no use for: they would seem to have been heard."""
    if options:
        raise ArgumentError(
            f"{name} is a stored study, which is only told again: leave "
            f"--{options[0].replace('_', '-')} out, or name the study and its data file."
        )


def refuse_of_graph(*idle: Any) -> None:
    """Refuse settings that regressions of a causal graph do not take from the shell."""
    if any(one is not None and one != [] for one in idle):
        raise ArgumentError(
            "A causal graph takes none of --chains, --draws, --warmup, --thin, --method, "
            "--setting, --workers, --prior, --plan, --sheet, --save, --level and --hdi: its "
            "regressions are ordinary studies, for millwright study regression."
        )


def stored_study(folder: Path, quiet: bool) -> Findings:
    """Return a stored study; one that was stopped goes on to its end."""
    from millwright.studies.folder import StudyFolder
    from millwright.studies.stored import load, resume

    if StudyFolder(folder).finished:
        return load(folder)
    with stops_told(folder):
        return resume(folder, progress=not quiet)


def made_study(
    name: str,
    data: Path | None,
    given: Mapping[str, Any],
    priors: Sequence[str],
    of_shell: Collection[str],
) -> Study:
    """Return the study, with the options that it takes.

    Parameters
    ----------
    of_shell
        Names of all options that the command has.
    """
    from millwright.cli.data_files import read_data
    from millwright.studies.catalogue import PLACES, arguments_of, function_of

    key = name.replace("-", "_")
    if key not in PLACES:
        raise ArgumentError(
            f"There is no study `{name}`, and no stored one of that name.{nearest(key, PLACES)} "
            f"Studies: {STUDIES}."
        )
    if data is None:
        raise ArgumentError(f"Name the data file: millwright study {name} DATA.")
    known = arguments_of(key)
    stated = curve_in(given) if key == "curve" else dict(given)
    for option in stated:
        if option not in known:
            own = ("curve", "code", "walkers", "steps") if key == "curve" else ()
            named = (one for one in (*own, *known) if one in of_shell)
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
    more = priors_of(key, priors, known)
    if "priors" in stated:
        more = {"priors": {**stated.pop("priors"), **more.get("priors", {})}}
    return function_of(key)(data=read_data(data), **stated, **more)


def fitted_study(
    made: Study, settings: Mapping[str, Any], save: Path | None, replace: bool, quiet: bool
) -> Findings:
    with stops_told(save):
        found = made.fit(save=save, replace=replace, progress=not quiet, **settings)
    if save is not None:
        typer.echo(f"Study stored in {save}", err=True)
    return found


def check_ahead(made: Study, ahead: int | None) -> None:
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


def forecast_of(found: Findings, ahead: int | None, seed: int) -> Forecast | None:
    """Return a forecast where it was asked for."""
    if ahead is None:
        return None
    check_ahead(found.study, ahead)
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
