"""Forecasts of a vector autoregression, and how well they met the truth."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
from scipy.special import logsumexp

from millwright.checks import check_whole
from millwright.display import Shown, frame_text
from millwright.draws.intervals import IntervalKind, interval, kind_words
from millwright.draws.scores import Score, number_scores
from millwright.errors import ArgumentError, DataError, nearest
from millwright.sampling.streams import Stream, generator_of
from millwright.studies.autoregression_model import covariances
from millwright.studies.autoregression_paths import Ahead, ahead
from millwright.studies.reading import numbers_in, table_of
from millwright.studies.series_model import SeriesModel
from millwright.wording import setting

if TYPE_CHECKING:
    from millwright.studies.autoregression_findings import AutoregressionFindings

__all__ = ["Forecast", "forecast_of", "stated_paths"]

_FAR = 100.0
_MOVING = {"coefficients": "drifts", "sds of errors": "errors_drift"}


@dataclass(frozen=True, kw_only=True)
class Forecast(Shown):
    """Draws of the steps after the last time.

    Attributes
    ----------
    draws
        (draws, steps, series).
    labels
        Of the steps.
    runaway
        Share of draws that leave the range of all readings by more than a hundred times its width.
    remarks
        What is to be known of it.
    """

    draws: np.ndarray = field(repr=False)
    series: tuple[str, ...]
    labels: tuple[str, ...]
    level: float
    kind: IntervalKind
    runaway: float
    remarks: tuple[str, ...]
    ahead: Ahead = field(repr=False)
    about: Any = field(repr=False, default=None)
    stated: np.ndarray = field(repr=False)

    def table(self) -> pd.DataFrame:
        """Return one row a series and step: median, mean and interval."""
        words = kind_words(self.kind, self.level)
        low, high = interval(self.draws, self.level, self.kind)
        middle, mean = np.median(self.draws, axis=0), self.draws.mean(axis=0)
        rows = [
            (series, label, middle[t, j], mean[t, j], low[t, j], high[t, j])
            for j, series in enumerate(self.series)
            for t, label in enumerate(self.labels)
        ]
        columns = ["series", "time", "median", "mean", f"{words}, from", f"{words}, to"]
        return pd.DataFrame(rows, columns=columns).set_index(["series", "time"])

    def score(self, truth: Any) -> Score:
        """Say how well the forecast met the truth.

        Parameters
        ----------
        truth
            DataFrame or mapping with a column for each series, one row a step.

        Returns
        -------
        As of `Predictions.score`, over all steps, in `frame` one row a series; not a number for a
        series without a reading to compare with.

        Raises
        ------
        DataError
            For a column that is missing, or another number of rows.
        """
        table = table_of(truth)
        if len(table) != len(self.labels):
            raise DataError(
                f"The forecast has {len(self.labels)} steps and the truth {len(table)} rows."
            )
        rows: dict[str, dict[str, float]] = {}
        for j, series in enumerate(self.series):
            real = numbers_in(table, series, "series").to_numpy()
            known = ~np.isnan(real) & np.isnan(self.stated[:, j])
            if not known.any():
                rows[series] = {}
                continue
            rows[series] = number_scores(
                self.draws[:, known, j].mean(axis=0),
                self.draws[:, known, j],
                real[known],
                self._log_densities(j, real)[known],
            )
        return Score(pd.DataFrame(rows).T.rename_axis("series"))

    def _log_densities(self, j: int, real: np.ndarray) -> np.ndarray:
        """Return log predictive densities of a series, by the normal behind each draw."""
        steps, n = len(self.labels), len(self.series)
        root = self.ahead.spreads.reshape(len(self.draws), steps, n, -1)[:, :, j]
        sd = np.sqrt((root**2).sum(axis=-1))
        z = (real - self.ahead.means[:, :, j]) / sd
        logs = -0.5 * z**2 - np.log(sd) - 0.5 * np.log(2 * np.pi)
        return np.asarray(logsumexp(logs, axis=0) - np.log(len(logs)))

    def __str__(self) -> str:
        lines = [f"Forecast of {len(self.labels)} steps"]
        lines += self.remarks
        return "\n".join([*lines, frame_text(self.table().reset_index())])


def forecast_of(
    found: AutoregressionFindings,
    horizon: int,
    drift: str,
    given: Mapping[str, Sequence[float | None]],
    others: Mapping[str, Sequence[float]],
    seed: int,
) -> Forecast:
    """Return a forecast; see `AutoregressionFindings.forecast`."""
    check_whole("horizon", horizon, 1)
    check_whole("seed", seed, 0)
    if drift not in ("on", "off"):
        raise ArgumentError(f"{setting('drift')} is 'on' or 'off', not {drift!r}.")
    parts = found.study.parts
    made = parts.data
    stated = stated_paths(given, made.series, horizon)
    generator = generator_of(seed, Stream.FORECAST)
    coefficients = _coefficients(found, horizon, drift == "on", generator)
    drawn = ahead(
        coefficients,
        _covariances(found, horizon, drift == "on", generator),
        parts.last(found.posterior.draws)[found.some],
        made.middle,
        _columns(found, others, horizon) - made.other_middle,
        stated,
        generator,
    )
    width = np.nanmax(made.values, axis=0) - np.nanmin(made.values, axis=0)
    away = np.abs(drawn.draws - made.middle) > _FAR * width
    runaway = float(away.any(axis=(1, 2)).mean())
    remarks = []
    if parts.changes:
        what = [words for words, moves in _MOVING.items() if getattr(parts, moves)]
        on = "go on drifting" if drift == "on" else "stay as they are at the last time"
        remarks.append(f"{' and '.join(what).capitalize()} {on}.")
    if not np.isnan(stated).all():
        remarks.append(
            "Given the stated readings of " + ", ".join(given) + ", later ones too; coefficients "
            "are those drawn without them."
        )
    if runaway > 0:
        remarks.append(
            f"{100 * runaway:.2g} % of draws run away, beyond a hundred times the range of all "
            "readings: means say nothing there, medians do."
        )
    return Forecast(
        draws=drawn.draws,
        series=made.series,
        labels=made.times.after(horizon),
        level=found.level,
        kind=found.kind,
        runaway=runaway,
        remarks=tuple(remarks),
        ahead=drawn,
        about=found,
        stated=stated,
    )


def _coefficients(
    found: AutoregressionFindings, horizon: int, drifting: bool, generator: np.random.Generator
) -> np.ndarray:
    """Return coefficients at each step to come, (draws, steps, n, terms)."""
    last = found.at(None)
    parts = found.study.parts
    paths = np.repeat(last[:, None], horizon, axis=1)
    if not (drifting and parts.drifts):
        return paths
    n, terms = parts.size
    for j in range(n):
        for r in range(terms):
            if parts.step_scale[j, r] > 0:
                name = f"{parts.name(j, r)}_drift"
                step = found.posterior.draws.get(name).reshape(-1)[found.some]
                df = parts.step_freedom[j, r]
                # A Student t of infinitely many degrees of freedom is normal.
                units = (
                    generator.standard_t(df, (len(step), horizon))
                    if np.isfinite(df)
                    else generator.standard_normal((len(step), horizon))
                )
                moves = units * step[:, None]
                paths[:, :, j, r] += np.cumsum(moves, axis=1)
    return paths


def _covariances(
    found: AutoregressionFindings, horizon: int, drifting: bool, generator: np.random.Generator
) -> np.ndarray:
    """Return covariances of errors at each step to come, (draws, steps or 1, n, n)."""
    parts = found.study.parts
    if not (drifting and parts.errors_drift):
        return found.covariance_at(None)[:, None]
    last = np.log(found.sizes[found.some, -1])
    draws = found.posterior.draws
    step = np.stack(
        [
            draws.get(f"log_sd_{j}_drift").reshape(-1)[found.some]
            for j in range(1, last.shape[1] + 1)
        ],
        axis=-1,
    )
    moves = generator.standard_normal((len(last), horizon, last.shape[1])) * step[:, None]
    sizes = last[:, None] + np.cumsum(moves, axis=1)
    return covariances(found.rows[found.some, None], np.exp(sizes))


def stated_paths(
    given: Mapping[str, Sequence[float | None]], series: Sequence[str], horizon: int
) -> np.ndarray:
    stated = np.full((horizon, len(series)), np.nan)
    for name, values in given.items():
        if name not in series:
            raise ArgumentError(
                f"{setting('given')} names `{name}`, which is no series."
                f"{nearest(str(name), series)} Series: {', '.join(series)}."
            )
        found = np.array([np.nan if one is None else one for one in values], dtype=float)
        if len(found) > horizon:
            raise ArgumentError(
                f"{setting('given')} has {len(found)} readings of `{name}` for {horizon} steps."
            )
        stated[: len(found), list(series).index(name)] = found
    return stated


def _columns(
    found: AutoregressionFindings, others: Mapping[str, Sequence[float]], horizon: int
) -> np.ndarray:
    """Return all columns of the steps to come: those that are given, and waves and trends."""
    given = _others(others, found.study.needed_ahead, horizon)
    parts = found.study.parts
    return parts.later(given, horizon) if isinstance(parts, SeriesModel) else given


def _others(
    others: Mapping[str, Sequence[float]], names: Sequence[str], horizon: int
) -> np.ndarray:
    found = np.empty((horizon, len(names)))
    for at, name in enumerate(names):
        values = others.get(name)
        if values is None or len(values) != horizon:
            raise ArgumentError(
                f"Say what `{name}` is at each of the {horizon} steps: "
                f"{setting('others', {name: '[...]'})}."
            )
        found[:, at] = np.asarray(values, dtype=float)
    for name in others:
        if name not in names:
            raise ArgumentError(f"{setting('others')} names `{name}`, which explains no series.")
    return found
