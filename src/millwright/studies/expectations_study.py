"""The study of series that follow equations in which today leans on what is expected."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, ClassVar

import numpy as np
import pandas as pd

from millwright.checks import check_whole
from millwright.draws.labelled_draws import Draws
from millwright.draws.prior import draws_in, refuse_improper
from millwright.errors import ArgumentError, DataError
from millwright.expectations.system import System, read_equations, read_system
from millwright.language.parse import normal_name
from millwright.modelling.simulate import draw_unknowns, stated_values
from millwright.posterior.posterior import Posterior
from millwright.sampling.streams import Stream, generator_of
from millwright.studies.autoregression_data import SeriesData, series_data, with_index
from millwright.studies.expectations_checks import check_readings, check_worlds, idle_words
from millwright.studies.expectations_findings import ExpectationsFindings
from millwright.studies.expectations_parts import (
    ExpectationsModel,
    Worlds,
    error_of,
    level_of,
    size_of,
)
from millwright.studies.expectations_paths import readings_of
from millwright.studies.expectations_simulated import SimulatedSeries
from millwright.studies.findings import Findings
from millwright.studies.priors import range_prior, with_priors
from millwright.studies.reading import find_column
from millwright.studies.scales import rounded_middle, rounded_spread
from millwright.studies.series_times import stored_name
from millwright.studies.study import Simulations, Study
from millwright.wording import setting

__all__ = ["ExpectationsStudy", "expectations_model"]

_TRIED = 400
_RARE = 0.5
_FEWEST = 5

Range = tuple[float, float]


@dataclass(frozen=True, eq=False, kw_only=True)
class ExpectationsStudy(Study):
    """Series on the stable path of equations with expectations.

    Attributes
    ----------
    parts
        The system with readings and priors.
    """

    name: ClassVar[str] = "expectations_model"

    parts: ExpectationsModel = field(repr=False)

    def data_of(self, name: str) -> pd.DataFrame:
        """Return the rows that the model uses, gaps marked."""
        return self.parts.frame

    @property
    def written_data(self) -> pd.DataFrame:
        """The rows that the model uses, gaps marked."""
        return self.parts.frame

    def data_lines(self) -> tuple[str, ...]:
        """Return series and times."""
        made = self.parts.data
        pairs = zip(made.series, self.parts.variables, strict=True)
        told = ", ".join(c if c == v else f"{c} (reads {v})" for c, v in pairs)
        return (
            f"Series: {told}; {made.count} times, {made.labels[0]} to {made.labels[-1]} "
            f"(one step is {made.times.unit}).",
        )

    def simulate(
        self, *, draws: int = 500, seed: int = 0, given: Mapping[str, Any] | None = None
    ) -> Simulations:
        """Draw unknowns from their priors, and series that follow the equations.

        Parameters
        ----------
        draws
            How many; draws of the priors without a single stable path are left out.
        seed
            Any whole number from 0.
        given
            Values for some unknowns, or for all: data with a known truth.

        Returns
        -------
        As of `Study.simulate`.

        Raises
        ------
        ArgumentError
            For settings that make no sense, or if no draw has a single stable path.
        """
        check_whole("draws", draws, 1)
        check_whole("seed", seed, 0)
        generator = generator_of(seed, Stream.SIMULATION)
        drawn, worlds = self._prior(draws, generator, given or {})
        good = np.array([path.kind == "one" for path in worlds.paths])
        if not good.any():
            raise ArgumentError(f"No draw can be simulated. {worlds.paths[0].words}")
        values = readings_of(worlds, self.parts, self.parts.data.count, generator)[good]
        kept = {name: one[:, good] for name, one in drawn.values.items()}
        outcomes = {c: values[:, :, j] for j, c in enumerate(self.parts.data.series)}
        made = SimulatedSeries(
            replace(drawn, values=kept, _derived={}),
            outcomes,
            times=self.data[[self.settings["time"]]] if self.settings["time"] else None,
        )
        return Simulations({next(iter(self.models)): made})

    def _prior(
        self, draws: int, generator: np.random.Generator, given: Mapping[str, Any]
    ) -> tuple[Draws, Worlds]:
        binding = self.parts.priors_alone.bind(None)
        refuse_improper(binding, tuple(given))
        fixed = stated_values(binding, given)
        drawn = draws_in(binding, draw_unknowns(binding, draws, generator, fixed))
        return drawn, self.parts.worlds(drawn)

    @property
    def needed_ahead(self) -> list[str]:
        """Columns whose values at steps to come a forecast needs: none."""
        return []

    @cached_property
    def tried(self) -> Worlds:
        """What some draws of the priors say of the system."""
        return self._prior(_TRIED, generator_of(0, Stream.SIMULATION), {})[1]

    def _found(self, posteriors: Mapping[str, Posterior], settings: Mapping[str, Any]) -> Findings:
        return ExpectationsFindings(study=self, posteriors=posteriors, fit_settings=settings)


def expectations_model(
    equations: str | Sequence[str] | Mapping[str, str],
    data: Any,
    *,
    unknowns: Mapping[str, str | float | Range],
    shocks: Mapping[str, str | float | Range],
    readings: Mapping[str, str] | Sequence[str],
    errors: Mapping[str, str | float | Range] | None = None,
    time: str | None = None,
    priors: Mapping[str, str | float] | None = None,
) -> ExpectationsStudy:
    """Ask how series move that follow equations in which today leans on what is expected.

    The equations are linear in their variables. They are solved for the stable path on which
    expectations are right on average (Blanchard and Kahn 1980; Klein 2000); unknowns for which
    there is none, or more than one, are ruled out.

    Parameters
    ----------
    equations
        A text with one equation a line, a list of texts, or texts by name, each `left = right` in
        the model language: `expected(price)` is what is expected now of the price at the next
        time, `before(stock)` the stock the time before, both as deep as need be. Every name that
        is no unknown and no shock is a variable, and there are as many equations as variables.
    data
        DataFrame, or mapping of columns; one row a time.
    unknowns
        Of each its prior as text, a pair of ends for a uniform one, or a number that holds it.
    shocks
        Of each the prior of its standard deviation, likewise. Shocks are normal, independent of
        each other and of the past.
    readings
        Columns of the data by the variable that they read, such as `{"Price (d)": "price"}`; or
        columns that are called like their variables.
    errors
        For a column that is read with an error the prior of its standard deviation.
    time
        A column of dates, periods or numbers, sorted and evenly spaced, or the name of the index;
        by default rows are times. Missing readings are passed over.
    priors
        Priors in place of those that the study chooses: of the levels around which columns are
        read, `price_level`. Where the equations have constants, the readings lie around the place
        where these let the variables rest, and there are no levels.

    Returns
    -------
    The study; nothing is sampled yet.

    Raises
    ------
    LanguageError
        For an equation that cannot be read, or is not linear.
    ArgumentError
        For names that do not fit, more readings than shocks and errors, or priors that hardly
        allow a single stable path.
    DataError
        For times that are out of order or uneven, a constant series, too few rows.
    """
    settings = {
        "equations": read_equations(equations),
        "unknowns": _written("unknowns", unknowns),
        "shocks": _written("shocks", shocks),
        "readings": _read_by(readings),
        "errors": _plain("errors", errors or {}),
        "time": time,
        "priors": _written("priors", priors or {}),
    }
    frame, settings["time"] = with_index(data, time)
    return build(frame, settings, ())


def build(
    frame: pd.DataFrame, settings: Mapping[str, Any], remarks: tuple[str, ...]
) -> ExpectationsStudy:
    """Return the study of a table under plain settings."""
    read = settings["readings"]
    columns = [find_column(frame, one, "readings") for one in read]
    made = _series(frame, columns, settings["time"])
    system = read_system(
        settings["equations"], list(settings["unknowns"]), list(settings["shocks"])
    )
    check_readings(system, read, settings["errors"])
    parts = ExpectationsModel(
        system=system,
        data=made,
        variables=tuple(read.values()),
        with_error=tuple(v for c, v in read.items() if c in settings["errors"]),
        priors=_priors(system, made, settings),
    )
    study = ExpectationsStudy(
        question=f"How do {', '.join(columns)} move, if today leans on what is expected?",
        data=made.frame.assign(**{stored_name(settings["time"], columns): made.times.column}),
        models={"equations": parts.model},
        choices=(),
        remarks=tuple(dict.fromkeys((*remarks, *made.remarks, *idle_words(parts)))),
        settings=settings,
        parts=parts,
    )
    worlds = study.tried
    check_worlds(parts, worlds)
    return replace(study, choices=_choices(parts, worlds))


def _written(what: str, given: Mapping[str, Any]) -> dict[str, Any]:
    """Return priors by names in the form in which the language compares them."""
    return {normal_name(name): prior for name, prior in _plain(what, given).items()}


def _plain(what: str, given: Mapping[str, Any]) -> dict[str, Any]:
    """Return priors as plain values: texts, numbers."""
    if not isinstance(given, Mapping):
        raise ArgumentError(f"{setting(what)} is a mapping of names to priors, not {given!r}.")
    found: dict[str, Any] = {}
    for name, value in given.items():
        if isinstance(value, str):
            found[str(name)] = value
            continue
        try:
            found[str(name)] = float(value)
        except (TypeError, ValueError):
            found[str(name)] = range_prior(str(name), value, f"{setting(what)}: ")
    return found


def _read_by(readings: Mapping[str, str] | Sequence[str]) -> dict[str, str]:
    if not isinstance(readings, str | Mapping | Sequence):
        raise ArgumentError(
            f"{setting('readings')} is a list of columns, or a mapping of columns to the "
            f"variables that they read, not {readings!r}."
        )
    named = [readings] if isinstance(readings, str) else readings
    pairs = named.items() if isinstance(named, Mapping) else zip(named, named, strict=True)
    found = {str(column): normal_name(str(variable)) for column, variable in pairs}
    if not found:
        raise ArgumentError("Nothing is read: name at least one column by `readings`.")
    return found


def _series(frame: pd.DataFrame, columns: list[str], time: str | None) -> SeriesData:
    if len(frame) < _FEWEST:
        raise DataError(f"The table has {len(frame)} rows; at least {_FEWEST} times are needed.")
    made = series_data(frame, columns, time, 0, [])
    gaps = len(made.gaps[0])
    # Here the filter passes over them.
    remarks = tuple(one for one in made.remarks if "missing reading" not in one)
    if gaps:
        remarks += (f"{gaps} missing reading{'s' * (gaps > 1)} passed over.",)
    return replace(made, remarks=remarks)


def _priors(system: System, made: SeriesData, settings: Mapping[str, Any]) -> dict[str, Any]:
    usual: dict[str, Any] = dict(settings["unknowns"])
    read = settings["readings"]
    further = {size_of(shock): prior for shock, prior in settings["shocks"].items()}
    further |= {error_of(read[column]): prior for column, prior in settings["errors"].items()}
    if not system.has_constants:
        for j, variable in enumerate(read.values()):
            values = made.values[~np.isnan(made.values[:, j]), j]
            spread = rounded_spread(float(values.std(ddof=1)))
            middle = rounded_middle(float(values.mean()), spread)
            further[level_of(variable)] = f"normal({middle:g}, {spread:g})"
    for name in further:
        if name in usual or name in system.variables:
            raise ArgumentError(
                f"`{name}` is what the study itself calls an unknown: call yours something else."
            )
    return with_priors({**usual, **further}, settings["priors"])


def _choices(parts: ExpectationsModel, worlds: Worlds) -> tuple[str, ...]:
    kinds = [path.kind for path in worlds.paths]
    shares = {kind: kinds.count(kind) / len(kinds) for kind in dict.fromkeys(kinds)}
    lines = []
    if parts.system.has_constants:
        lines.append("Readings lie around the place where the constants let the variables rest.")
    else:
        lines.append(
            "Readings lie around unknown levels (`..._level`), a priori normal around the mean of "
            "the column with its sd."
        )
    lines.append("The first time is drawn from the distribution at rest.")
    one = shares["one"]
    others = ", ".join(
        f"{100 * share:.2g} % {'a system that is unclear' if kind == 'unclear' else kind}"
        for kind, share in shares.items()
        if kind != "one"
    )
    told = f"Of {_TRIED} draws of the priors {100 * one:.3g} % have one stable path"
    lines.append(
        f"{told}, {others}; the posterior keeps to those with one." if others else f"{told}."
    )
    if one < _RARE:
        lines.append(
            "So few are an odd prior: the stable region, not the priors as written, says where "
            "the unknowns lie. Narrow the priors."
        )
    return tuple(lines)


def rebuild(
    data: pd.DataFrame, settings: Mapping[str, Any], remarks: tuple[str, ...]
) -> ExpectationsStudy:
    """Return a stored study."""
    stored = {**settings, "time": stored_name(settings["time"], settings["readings"])}
    made = build(data, stored, remarks)
    return replace(made, settings=settings)
