"""The study of one series as the sum of a level, a trend, seasons and columns."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, ClassVar

import numpy as np
import pandas as pd

from millwright.checks import check_positive
from millwright.errors import ArgumentError, DataError
from millwright.posterior.posterior import Posterior
from millwright.studies.autoregression_data import SeriesData, series_data, with_index
from millwright.studies.autoregression_model import READING, Rules
from millwright.studies.autoregression_rolling import Make
from millwright.studies.autoregression_study import AutoregressionStudy, check_drift
from millwright.studies.findings import Findings
from millwright.studies.reading import find_column
from millwright.studies.series_findings import SeriesFindings
from millwright.studies.series_model import BREAK_FREEDOM, SeriesModel
from millwright.studies.series_parts import Part, read_parts, waves
from millwright.studies.series_times import stored_name

__all__ = ["SeriesStudy", "series"]

_LEAST_CYCLES = 2


@dataclass(frozen=True, eq=False, kw_only=True)
class SeriesStudy(AutoregressionStudy):
    """One series as the sum of parts."""

    name: ClassVar[str] = "series"
    # Of one series a sweep takes little, and level and noise mix slowly.
    thin: ClassVar[int] = 20

    parts: SeriesModel

    def data_lines(self) -> tuple[str, ...]:
        """Return the series and its times."""
        made = self.parts.data
        return (
            f"Series: {made.series[0]}; {made.count} times, {made.labels[0]} to {made.labels[-1]} "
            f"(one step is {made.times.unit}).",
        )

    def _rivals(self) -> dict[str, Make]:
        return {"series": partial(rebuild, settings=self.settings, remarks=())}

    @property
    def needed_ahead(self) -> list[str]:
        """Columns whose values at steps to come a forecast needs."""
        return [part.column for part in self.parts.parts if part.kind == "column"]

    def _found(self, posteriors: Mapping[str, Posterior], settings: Mapping[str, Any]) -> Findings:
        return SeriesFindings(study=self, posteriors=posteriors, fit_settings=settings)


def series(
    parts: str,
    data: Any,
    outcome: str | None = None,
    time: str | None = None,
    *,
    drift: float = 0.5,
    error_drift: float = 0.0,
) -> SeriesStudy:
    """Ask what a series is made of: a level, a trend, seasons, and what columns do to it.

    Parameters
    ----------
    parts
        Such as `level + season(12) + hours`: `level`, a random walk (a constant one where it is
        left out); `level(breaks)`, one with Student-t steps, which may jump; `trend`, a straight
        line; `season(period)` or `season(period, waves)`, a sum of waves that drift, by default 3;
        `cycle(period)`, one such wave of any period; a column with a constant slope, or
        `drifting(column)` with one that is a random walk.
    data
        DataFrame, or mapping of columns; one row a time.
    outcome
        The column of the series.
    time
        A column of dates, periods or numbers, sorted and evenly spaced, or the name of the index;
        by default rows are times. Times without a row count as missing readings, which are drawn.
    drift
        Scale of what may drift: the half-normal scale of how far waves and slopes wander over all
        times, in sds of the series; of the level twice it times the sd of the series' changes.
    error_drift
        Half-normal scale of how far the log sd of the noise wanders over all times; 0 for noise
        that is as large at all times.

    Returns
    -------
    The study; nothing is sampled yet.

    Raises
    ------
    ArgumentError
        For parts, columns or settings that make no sense.
    DataError
        For times that are out of order, uneven or doubled, a constant series, too few rows.
    """
    read = read_parts(parts)
    frame, time = with_index(data, time)
    name = find_column(frame, outcome, "outcome")
    columns = [find_column(frame, part.column, "parts") for part in read if part.kind == "column"]
    if name in columns:
        raise ArgumentError(f"`{name}` is the series itself: leave it out of the parts.")
    made = series_data(frame, [name], time, 0, columns)
    settings = {
        "parts": parts,
        "outcome": name,
        "time": time,
        "drift": drift,
        "error_drift": error_drift,
    }
    return build(made, read, settings)


def build(made: SeriesData, read: tuple[Part, ...], settings: Mapping[str, Any]) -> SeriesStudy:
    """Return the study of a series under settings, all checked."""
    check_positive("drift", settings["drift"])
    errors = settings.get("error_drift", 0.0)
    check_drift("error_drift", errors)
    whole = _with_waves(made, read)
    rules = Rules(
        tightness=1.0,
        cross=1.0,
        first_lag=0.0,
        drift=float(settings["drift"]),
        error_drift=float(errors),
    )
    model = SeriesModel(data=whole, rules=rules, parts=read)
    named = stored_name(settings["time"], made.frame.columns)
    table = made.frame.assign(**{named: made.times.column})
    return SeriesStudy(
        question=f"What is `{made.series[0]}` made of ({settings['parts']})?",
        data=table,
        models={"series": model.model},
        choices=_choices(model),
        remarks=made.remarks,
        settings=settings,
        parts=model,
    )


def _with_waves(made: SeriesData, read: tuple[Part, ...]) -> SeriesData:
    """Return the data with the columns of all parts, in their order."""
    count = len(made.frame)
    places = np.arange(count)
    columns: dict[str, np.ndarray] = {}
    for part in read:
        if part.kind == "season":
            if count < _LEAST_CYCLES * part.period:
                raise DataError(
                    f"{part.name}: {count} times are fewer than {_LEAST_CYCLES} rounds of "
                    f"{part.period:g}; nothing comes again in them."
                )
            table = waves(part.period, part.waves, places)
            columns |= dict(zip(part.terms, table.T, strict=True))
        elif part.kind == "trend":
            columns[part.name] = places.astype(float)
        elif part.kind == "column":
            columns[part.name] = made.frame[part.column].to_numpy(float)
    own = {part.column for part in read if part.kind == "column"}
    taken = {"level"}.union(*(part.terms for part in read if part.kind != "column"))
    taken |= {part.name for part in read if part.kind != "column"}
    if own & taken:
        raise ArgumentError(
            f"A column is called `{min(own & taken)}`, as a part of a series is: rename the "
            "column."
        )
    if len(columns) + 3 > count:
        raise DataError(
            f"There are {count} times and {len(columns) + 1} coefficients: give fewer parts."
        )
    x = np.column_stack([np.ones(count), *columns.values()])
    if np.linalg.matrix_rank(x / np.linalg.norm(x, axis=0)) < x.shape[1]:
        raise DataError(
            "A part can be computed from the others, such as a column that is a season or a trend "
            "itself: leave one out."
        )
    frame = pd.DataFrame({made.series[0]: made.frame[made.series[0]], **columns})
    return replace(made, frame=frame, others=tuple(columns))


def _choices(model: SeriesModel) -> tuple[str, ...]:
    made, drift = model.data, model.rules.drift
    lines = [
        "Prior before the first step: the level, with all parts at their means, normal around the "
        "series' mean with 2 of its sds; what one sd of another column does normal(0, 2 sds of "
        "the series).",
        _noise_words(model),
    ]
    for part in model.parts:
        if part.kind == "level":
            steps = (
                f"Student-t steps of {BREAK_FREEDOM:g} degrees of freedom, so that it may jump; "
                "their scale is"
                if part.breaks
                else "its sd of steps"
            )
            lines.append(
                f"Level: a random walk; {steps} half-normal with the scale "
                f"{2 * drift:g} times the sd of the series' changes from time to time."
            )
        elif part.kind == "season":
            lines.append(
                f"{part.name}: {part.waves} wave{'s' * (part.waves > 1)}, whose cosines and sines "
                f"drift, so that over all times each wanders by about {drift:g} of the series' "
                "sd; drifts() says whether they do."
            )
        elif part.kind == "trend":
            lines.append("Trend: a straight line in time.")
        else:
            moves = "a random walk" if part.drifts else "constant"
            lines.append(f"{part.name}: its slope is {moves}.")
    if not any(part.kind == "level" for part in model.parts):
        lines.append("No level among the parts: it is constant.")
    if len(made.gaps[0]):
        lines.append(
            f"Missing readings are drawn too (`{READING}`); in the visible model below they stand "
            "filled along straight lines."
        )
    lines.append("Sampled by Gibbs sweeps, as several series are.")
    return tuple(lines)


def _noise_words(model: SeriesModel) -> str:
    if model.errors_drift:
        return (
            "Noise: the log of its sd is a random walk (Kim, Shephard and Chib 1998) that starts "
            f"at normal({model.size_start[0]:g}, 1), the log of half of the sd of the changes; "
            "its sd of steps half-normal, so that over all times the log sd wanders by about "
            f"{model.rules.error_drift:g}."
        )
    return (
        f"Noise: variance inverse gamma, shape 1.5, scale {0.5 * model.scatter[0]:.3g}, a "
        "fortieth of the variance of the changes from time to time: it hardly matters."
    )


def rebuild(
    data: pd.DataFrame, settings: Mapping[str, Any], remarks: tuple[str, ...]
) -> SeriesStudy:
    """Return a stored study."""
    read = read_parts(settings["parts"])
    columns = [part.column for part in read if part.kind == "column"]
    named = stored_name(settings["time"], [settings["outcome"], *columns])
    made = series_data(data, [settings["outcome"]], named, 0, columns)
    kept = [one for one in remarks if one not in made.remarks]
    return build(replace(made, remarks=(*kept, *made.remarks)), read, settings)
