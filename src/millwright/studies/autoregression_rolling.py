"""One-step forecasts as times come in, beside simpler ones."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
from scipy import stats

from millwright.checks import check_whole
from millwright.draws.scores import Score
from millwright.errors import ArgumentError
from millwright.sampling.progress import DataSetCount, Listener, Progress

if TYPE_CHECKING:
    from millwright.studies.autoregression_study import AutoregressionStudy

__all__ = ["Make", "rolling_scores"]

Make = Callable[[pd.DataFrame], "AutoregressionStudy"]
_WALK = "random walk"
_COLUMNS = ["root-mean-square error", "log score", "inside 95 % interval"]


def rolling_scores(
    study: AutoregressionStudy,
    models: Mapping[str, Make],
    columns: list[str],
    last: int,
    fit: Mapping[str, Any],
    listener: Listener,
) -> Score:
    """Fit each model to the times before, and score its forecast of the next; again and again.

    Parameters
    ----------
    models
        By name what makes a study of the rows so far.
    columns
        Columns whose values are known when a time is forecast.
    last
        How many of the last times are forecast, one by one.
    fit
        Settings of each fit.

    Returns
    -------
    In `frame` one row a model and series: root-mean-square error of means, mean log predictive
    density (larger is better), and the share of readings inside the 95 % interval; last the random
    walk, whose forecast is the last reading with the sd of changes.

    Raises
    ------
    ArgumentError
        If fewer times than half would be left to begin with.
    """
    check_whole("last", last, 1)
    made, table = study.parts.data, study.data
    count = len(table)
    if last > count // 2:
        raise ArgumentError(
            f"`last` is at most half of the {count} times, so that the first fit has enough; not "
            f"{last}."
        )
    rows: dict[tuple[str, str], list[tuple[float, float, float]]] = {}
    total = last * len(models)
    for step, end in enumerate(range(count - last, count)):
        before, now = table.iloc[:end], table.iloc[end : end + 1]
        known = {name: [float(now[name].iloc[0])] for name in columns}
        for at, (model, make) in enumerate(models.items()):
            done = DataSetCount(step * len(models) + at, total)
            listener(Progress("sampling", 0.0, data_sets=done))
            findings = make(before).fit(progress=False, **fit)
            forecast = findings.forecast(1, others=known)  # type: ignore[attr-defined]
            found = forecast.score(now[list(made.series)]).frame
            for j, name in enumerate(made.series):
                real = float(now[name].iloc[0])
                if np.isnan(real):
                    continue
                error = float(forecast.draws[:, 0, j].mean() - real)
                row = found.loc[name]
                rows.setdefault((model, name), []).append(
                    (error, float(row["log score"]), float(row["inside 95 % interval"]))
                )
        for name in made.series:
            one = _walk(before[name], float(now[name].iloc[0]))
            if one is not None:
                rows.setdefault((_WALK, name), []).append(one)
    listener(Progress("finished", 0.0, data_sets=DataSetCount(total, total)))
    order = [(model, name) for model in (*models, _WALK) for name in made.series]
    frame = pd.DataFrame(
        {key: _summary(rows[key]) for key in order if key in rows}, index=_COLUMNS
    )
    return Score(frame.T.rename_axis(["model", "series"]))


def _walk(before: pd.Series, real: float) -> tuple[float, float, float] | None:
    values = before.dropna().to_numpy(float)
    spread = float(np.diff(values).std(ddof=1))
    if np.isnan(real) or spread == 0:
        return None
    error = float(values[-1] - real)
    return error, float(stats.norm(0, spread).logpdf(error)), float(abs(error) <= 1.96 * spread)


def _summary(rows: list[tuple[float, float, float]]) -> list[float]:
    errors, scores, inside = np.array(rows).T
    return [float(np.sqrt((errors**2).mean())), float(scores.mean()), float(inside.mean())]
