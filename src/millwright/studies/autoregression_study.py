"""The study of several series that lean on their own past, with coefficients that may drift."""

from __future__ import annotations

import time as clock
from collections.abc import Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, field, replace
from functools import cached_property, partial
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
import pandas as pd

from millwright.checks import check_list, check_positive, check_whole
from millwright.draws.scores import Score
from millwright.errors import ArgumentError, Interrupted, nearest
from millwright.fitting.record import Origin
from millwright.fitting.versions import now
from millwright.models.exact import made_elsewhere
from millwright.models.model import Model
from millwright.models.runs import load
from millwright.posterior.posterior import Posterior
from millwright.sampling.progress import Listener
from millwright.studies.autoregression_conjugate import conjugate_posterior
from millwright.studies.autoregression_data import SeriesData, series_data
from millwright.studies.autoregression_findings import AutoregressionFindings
from millwright.studies.autoregression_model import Autoregression, Rules
from millwright.studies.autoregression_rolling import Make, rolling_scores
from millwright.studies.autoregression_words import choice_words
from millwright.studies.exact import exact_fit
from millwright.studies.findings import Findings
from millwright.studies.series_times import stored_name
from millwright.studies.study import Fitting, Study
from millwright.sweeps.problem import gone_on
from millwright.sweeps.run import Halted, Plan, Stop, Swept, stacked, swept
from millwright.terminal.progress import chosen_listener
from millwright.wording import setting

__all__ = ["AutoregressionStudy", "check_drift", "vector_autoregression"]

_CHAINS, _DRAWS = 4, 1000
_WARMUP = 400
_CLOSED = "closed form: matrix normal and inverse Wishart"


@dataclass(frozen=True, eq=False, kw_only=True)
class AutoregressionStudy(Study):
    """Several series on their own past.

    Attributes
    ----------
    parts
        The autoregression: its series and priors.
    """

    name: ClassVar[str] = "vector_autoregression"
    keeps_draws: ClassVar[bool] = False
    thin: ClassVar[int] = 5

    parts: Autoregression = field(repr=False)

    def data_of(self, name: str) -> pd.DataFrame:
        """Return the rows that the model uses, with the past of each beside it."""
        return self._frame

    @cached_property
    def _frame(self) -> pd.DataFrame:
        return self.parts.frame

    @property
    def written_data(self) -> pd.DataFrame:
        """The rows that the model uses, with the past of each beside it."""
        return self._frame

    def data_lines(self) -> tuple[str, ...]:
        """Return series, times and lags."""
        made = self.parts.data
        first, last = made.labels[0], made.labels[-1]
        return (
            f"Series: {', '.join(made.series)}; {made.count} times explained, {first} to {last} "
            f"(one step is {made.times.unit}), by {made.lags} before each.",
            *([f"Other columns: {', '.join(made.others)}."] if made.others else []),
        )

    def _fit_one(self, name: str, how: Fitting) -> Posterior:
        if self.parts.rules.conjugate:
            drawn = conjugate_posterior(self.parts).draw
            return exact_fit(self.model, self.data_of(""), drawn, _CLOSED, how.settings, how.save)
        settings = {key: value for key, value in how.settings.items() if value is not None}
        known = ("seed", "chains", "draws", "warmup", "thin")
        for key in settings:
            if key not in known:
                raise ArgumentError(
                    f"{setting(key)} is no setting of Gibbs sampling; it takes {', '.join(known)}."
                )
        plan = Plan(
            chains=settings.get("chains", _CHAINS),
            warmup=settings.get("warmup", _WARMUP),
            draws=settings.get("draws", _DRAWS),
            thin=settings.get("thin", self.thin),
            seed=settings.get("seed", 0),
        )
        for key, least in (("chains", 1), ("warmup", 0), ("draws", 1), ("thin", 1), ("seed", 0)):
            check_whole(key, getattr(plan, key), least)
        before = _begun(how.save, plan, self.model)
        if before is not None and before.draws.shape[1] == plan.draws:
            return before
        try:
            posterior = self._swept(plan, how.workers, how.progress, before)
        except Interrupted as stop:
            if how.save is not None and isinstance(stop.posterior, Posterior):
                stop.posterior.save(how.save, replace=True)
            raise
        if how.save is not None:
            posterior.save(how.save, replace=True)
        return posterior

    def extended(
        self,
        name: str,
        posterior: Posterior,
        more: int,
        workers: int | Executor | None,
        progress: bool | Listener,
    ) -> Posterior:
        """Return the posterior with more draws, those of one longer fit."""
        if self.parts.rules.conjugate:
            return super().extended(name, posterior, more, workers, progress)
        chains, draws = posterior.draws.shape
        record = posterior.record
        plan = Plan(
            chains=chains,
            warmup=record.settings["warmup"],
            draws=draws + more,
            thin=record.settings["thin"],
            seed=record.seed,
        )
        return self._swept(plan, workers, progress, posterior, extended=True)

    def _swept(
        self,
        plan: Plan,
        workers: int | Executor | None,
        progress: bool | Listener,
        before: Posterior | None,
        extended: bool = False,
    ) -> Posterior:
        """Make all sweeps of the plan that are not there yet."""
        began, started = now(), clock.monotonic()
        problem = self.parts.problem
        threads = workers if isinstance(workers, int) else None
        stops = [] if before is None else self._stops(before)
        left = plan
        if before is not None:
            left = replace(plan, warmup=0, draws=plan.draws - before.draws.shape[1])

        def posterior_of(found: Swept) -> Posterior:
            seconds = clock.monotonic() - started
            return self._posterior(plan, found, before, began, seconds, extended)

        try:
            return posterior_of(swept(problem, left, threads, chosen_listener(progress), stops))
        except Halted as stop:
            so_far = before if stop.done is None else posterior_of(stop.done)
            raise Interrupted(_stopped_words(so_far), so_far) from stop

    def _posterior(
        self,
        plan: Plan,
        found: Swept,
        before: Posterior | None,
        began: str,
        seconds: float,
        extended: bool,
    ) -> Posterior:
        """Return the posterior of draws that follow those before."""
        values = self.parts.values(stacked(found.kept))
        if before is not None:
            began, seconds = before.record.started, seconds + before.record.seconds["sampling"]
            old = before.draws.values
            values = {key: np.concatenate([old[key], new], 1) for key, new in values.items()}
        return made_elsewhere(
            self.model.bind(self.data_of("")),
            values,
            origin=Origin.SWEEPS,
            seed=plan.seed,
            settings={
                "method": "Gibbs sweeps",
                "chains": plan.chains,
                "draws": next(iter(values.values())).shape[1],
                "warmup": plan.warmup,
                "thin": plan.thin,
                "filled": len(self.parts.data.gaps[0]),
            },
            began=began,
            seconds=seconds,
            chains=tuple({"steps": 0, "generator": one} for one in found.generators),
            extended=extended or (before is not None and before.record.extended),
        )

    def _stops(self, before: Posterior) -> list[Stop]:
        """Return where each chain stands at its last draw, which is all that it goes on from."""
        if not all("generator" in one for one in before.record.chains):
            raise ArgumentError(
                "These draws cannot go on: an earlier version stored them without the state of "
                f"their random numbers. Fit anew with more {setting('draws')}."
            )
        chains, draws = before.draws.shape
        kept, problem = self.parts.kept(before.draws), self.parts.problem
        return [
            Stop(
                state=gone_on(problem, kept, (chain + 1) * draws - 1),
                generator=before.record.chains[chain]["generator"],
            )
            for chain in range(chains)
        ]

    def compare_forecasts(
        self, last: int = 12, *, draws: int = 300, seed: int = 0, progress: bool | Listener = True
    ) -> Score:
        """Score one-step forecasts of the last times, each from a fit to the times before it.

        Beside the study with constant coefficients, where they drift, and a random walk.

        Parameters
        ----------
        last
            How many times, at most half of all; each is fitted anew.
        draws
            Of each of two chains.
        seed, progress
            As for `fit`.

        Returns
        -------
        In `frame` one row a model and series: root-mean-square error of means, mean log predictive
        density (larger is better), share of readings inside the 95 % interval.

        Raises
        ------
        ArgumentError
            For numbers that make no sense.
        """
        check_whole("draws", draws, 50)
        fit = {"seed": seed, "chains": 2, "draws": draws, "warmup": 200}
        return rolling_scores(
            self, self._rivals(), self.needed_ahead, last, fit, chosen_listener(progress)
        )

    def _rivals(self) -> dict[str, Make]:
        """Return what makes studies of the rows so far, by the name of the model."""
        made: dict[str, Make] = {
            next(iter(self.models)): partial(rebuild, settings=self.settings, remarks=())
        }
        if self.parts.changes:
            steady = {**self.settings, "drift": 0, "error_drift": 0, "constant": []}
            made["constant"] = partial(rebuild, settings=steady, remarks=())
        return made

    @property
    def needed_ahead(self) -> list[str]:
        """Columns whose values at steps to come a forecast needs."""
        return list(self.parts.data.others)

    def _found(self, posteriors: Mapping[str, Posterior], settings: Mapping[str, Any]) -> Findings:
        return AutoregressionFindings(study=self, posteriors=posteriors, fit_settings=settings)


def _stopped_words(so_far: Posterior | None) -> str:
    kept = "before every chain had kept draws"
    if so_far is not None:
        kept = (
            f"before their end; the {so_far.draws.shape[1]} draws a chain that all had are in "
            "this error's `posterior`"
        )
    return f"The sweeps were stopped {kept}. Give {setting('save')} to be able to go on."


def _begun(folder: Path | None, plan: Plan, model: Model) -> Posterior | None:
    """Return what of the plan is in the folder, from a fit that was stopped."""
    if folder is None or not (folder / "run.json").is_file():
        return None
    before = load(folder, model=model)
    known = before.record.settings
    same = [known[name] == getattr(plan, name) for name in ("chains", "warmup", "thin")]
    whole = all(same) and before.record.seed == plan.seed and known["draws"] <= plan.draws
    return before if whole else None


def vector_autoregression(
    data: Any,
    series: Sequence[str] | None = None,
    time: str | None = None,
    *,
    lags: int = 1,
    others: Sequence[str] = (),
    drift: float | None = None,
    error_drift: float = 0.0,
    constant: Sequence[str] = (),
    tightness: float = 0.5,
    cross: float | None = None,
    first_lag: float = 0.5,
    conjugate: bool = False,
) -> AutoregressionStudy:
    """Ask how several series lean on their own past, and whether that changes.

    Every series is regressed on the last readings of all. Coefficients are constant, or random
    walks with a step each (Primiceri 2005; Chan and Jeliazkov 2009); errors are correlated.

    Parameters
    ----------
    data
        DataFrame, or mapping of columns; one row a time.
    series
        Columns that explain each other; by default all columns of numbers but the others. Their
        order is that of ordered responses.
    time
        A column of dates, periods or numbers, sorted and evenly spaced, or the name of the index;
        by default rows are times. Times without a row count as missing readings, which are drawn.
    lags
        How many readings before each time.
    others
        Further columns that explain all series at the same time.
    drift
        Half-normal scale of how far each slope wanders over all times, in units of the series'
        noises (levels: of their sds); 0 for coefficients that are constant. By default 0.5, or 0
        with a conjugate prior.
    error_drift
        Half-normal scale of how far the log sd of each series' errors wanders over all times
        (Primiceri 2005; Kim, Shephard and Chib 1998); 0 for errors with one covariance. Errors
        that drift lean on those of the series before them by constant slopes, so that their
        prior depends on the order.
    constant
        Terms whose coefficients do not drift, such as `level` or `flow, 1 before`.
    tightness, cross, first_lag
        Of the prior before the first step (Litterman 1986): sd of the slope of a series on its
        own last reading, at lag l divided by l; that on others over it, in units of their noises
        (by default 0.5, or 1 with a conjugate prior); and the mean of the first.
    conjugate
        Whether prior sds of constant coefficients stand in units of the unknown sds of errors
        (Kadiyala and Karlsson 1997). The posterior is then known in closed form, and its draws
        are independent; it treats own and other series alike, and takes no missing reading.

    Returns
    -------
    The study; nothing is sampled yet.

    Raises
    ------
    ArgumentError
        For columns or settings that make no sense.
    DataError
        For times that are out of order, uneven or doubled, constant or collinear series, too few
        rows.
    """
    check_whole("lags", lags, 1)
    made = series_data(data, series, time, lags, others)
    kept = check_list("constant", constant)
    settings = {
        "series": list(made.series),
        "time": time if made.times.name == "row" else made.times.name,
        "lags": lags,
        "others": list(made.others),
        "drift": (0.0 if conjugate else 0.5) if drift is None else drift,
        "error_drift": error_drift,
        "constant": kept,
        "tightness": tightness,
        "cross": (1.0 if conjugate else 0.5) if cross is None else cross,
        "first_lag": first_lag,
        "conjugate": conjugate,
    }
    return build(made, settings)


def build(made: SeriesData, settings: Mapping[str, Any]) -> AutoregressionStudy:
    """Return the study of series under settings, all checked."""
    for name in ("tightness", "cross"):
        check_positive(name, settings[name])
    drift, first = settings["drift"], settings["first_lag"]
    errors = settings.get("error_drift", 0.0)
    check_drift("drift", drift)
    check_drift("error_drift", errors)
    if not isinstance(first, int | float) or not np.isfinite(first):
        raise ArgumentError(f"`first_lag` must be a number, not {first!r}.")
    for term in settings["constant"]:
        if term not in made.terms:
            raise ArgumentError(
                f"{setting('constant')} names `{term}`, which is no term."
                f"{nearest(str(term), made.terms)} Terms: {', '.join(made.terms)}."
            )
    parts = Autoregression(
        data=made,
        rules=Rules(
            tightness=float(settings["tightness"]),
            cross=float(settings["cross"]),
            first_lag=float(first),
            drift=float(drift),
            error_drift=float(errors),
            conjugate=_checked_conjugate(settings, made),
        ),
        still=tuple(settings["constant"]),
    )
    named = stored_name(settings["time"], made.frame.columns)
    table = made.frame.assign(**{named: made.times.column})
    return AutoregressionStudy(
        question=f"How do {', '.join(f'`{name}`' for name in made.series)} lean on their past"
        + (", and does it change?" if parts.changes else "?"),
        data=table,
        models={"drifting" if parts.changes else "constant": parts.model},
        choices=choice_words(parts),
        remarks=made.remarks,
        settings=settings,
        parts=parts,
    )


def _checked_conjugate(settings: Mapping[str, Any], made: SeriesData) -> bool:
    """Return whether the prior is conjugate; refuse what no conjugate prior can have."""
    wanted = settings.get("conjugate", False)
    if not isinstance(wanted, bool):
        raise ArgumentError(f"{setting('conjugate')} is true or false, not {wanted!r}.")
    if not wanted:
        return False
    for name, needed in (("drift", 0), ("error_drift", 0), ("cross", 1)):
        if settings.get(name, needed) != needed:
            raise ArgumentError(
                f"A conjugate prior needs {setting(name, needed)}: its coefficients are constant, "
                "and it treats slopes on own and other series alike. Leave out "
                f"{setting('conjugate')} to sample."
            )
    if len(made.gaps[0]):
        raise ArgumentError(
            f"{len(made.gaps[0])} readings are missing, so the posterior is not known in closed "
            f"form: leave out {setting('conjugate')} to sample."
        )
    return True


def check_drift(name: str, value: Any) -> None:
    """Refuse a scale of what drifts that is neither positive nor 0, which says that nothing does.

    Raises
    ------
    ArgumentError
        Which names it.
    """
    if isinstance(value, bool) or value != 0:
        check_positive(name, value)


def rebuild(
    data: pd.DataFrame, settings: Mapping[str, Any], remarks: tuple[str, ...]
) -> AutoregressionStudy:
    """Return a stored study."""
    # The stored table has a row for every time, in their order.
    named = stored_name(settings["time"], [*settings["series"], *settings["others"]])
    made = series_data(data, settings["series"], named, int(settings["lags"]), settings["others"])
    kept = [one for one in remarks if one not in made.remarks]
    return build(replace(made, remarks=(*kept, *made.remarks)), settings)
