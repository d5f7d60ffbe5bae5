"""Responses of series to shocks, and shares of their forecast variance."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from millwright.checks import check_list, check_whole
from millwright.display import Shown, frame_text
from millwright.draws.intervals import IntervalKind, interval, kind_words
from millwright.errors import ArgumentError, nearest
from millwright.studies.autoregression_paths import (
    impacts,
    lag_matrices,
    moved,
    shares_of_errors,
)
from millwright.wording import setting

if TYPE_CHECKING:
    from millwright.studies.autoregression_findings import AutoregressionFindings

__all__ = ["Responses", "Shares", "check_shock", "responses_of", "shares_of"]

_FORMS = ("ordered", "generalised")
_SHOCKS = ("sd", "unit")
_PRINTED = (0, 1, 2, 4, 8, 12, 24)


@dataclass(frozen=True, kw_only=True)
class Responses(Shown):
    """How all series answer to a shock of each.

    Attributes
    ----------
    draws
        By time, (draws, horizon + 1, series, shocks): the answer of a series so many steps after.
    series, shocks
        What answers, and what is shocked.
    words
        What the shock is, and how shocks work at once.
    """

    draws: dict[str, np.ndarray] = field(repr=False)
    series: tuple[str, ...]
    shocks: tuple[str, ...]
    words: str
    level: float
    kind: IntervalKind
    about: Any = field(repr=False, default=None)

    def table(self) -> pd.DataFrame:
        """Return one row a time, shock, series and step: median, mean and interval."""
        words = kind_words(self.kind, self.level)
        rows = []
        for time, draws in self.draws.items():
            low, high = interval(draws, self.level, self.kind)
            middle, mean = np.median(draws, axis=0), draws.mean(axis=0)
            for i, shock in enumerate(self.shocks):
                for j, series in enumerate(self.series):
                    for step in range(draws.shape[1]):
                        at = step, j, i
                        rows.append(
                            (time, shock, series, step, middle[at], mean[at], low[at], high[at])
                        )
        names = ["time", "shock of", "answer of", "step"]
        columns = [*names, "median", "mean", f"{words}, from", f"{words}, to"]
        return pd.DataFrame(rows, columns=columns).set_index(names)

    def __str__(self) -> str:
        table = self.table().round(6)
        shown = table[table.index.get_level_values("step").isin(_PRINTED)]
        return f"Responses: {self.words}\n{frame_text(shown.reset_index())}"


@dataclass(frozen=True, kw_only=True)
class Shares(Shown):
    """Which share of each series' forecast variance comes from the shocks of which.

    Attributes
    ----------
    draws
        (draws, horizon, series, shocks); entry h is for h + 1 steps ahead.
    series, shocks
        Whose variance it is, and what it comes from.
    """

    draws: np.ndarray = field(repr=False)
    series: tuple[str, ...]
    shocks: tuple[str, ...]
    words: str
    level: float
    kind: IntervalKind

    def table(self) -> pd.DataFrame:
        """Return one row a series, shock and step: mean share, which sum to 1, and interval."""
        words = kind_words(self.kind, self.level)
        low, high = interval(self.draws, self.level, self.kind)
        mean = self.draws.mean(axis=0)
        rows = [
            (series, shock, step + 1, mean[step, j, i], low[step, j, i], high[step, j, i])
            for j, series in enumerate(self.series)
            for i, shock in enumerate(self.shocks)
            for step in range(self.draws.shape[1])
        ]
        names = ["series", "shocks of", "step"]
        columns = [*names, "mean share", f"{words}, from", f"{words}, to"]
        return pd.DataFrame(rows, columns=columns).set_index(names)

    def __str__(self) -> str:
        table = self.table().round(4)
        shown = table[table.index.get_level_values("step").isin(_PRINTED)]
        return f"Shares of forecast variance: {self.words}\n{frame_text(shown.reset_index())}"


def check_shock(shock: str) -> None:
    """Refuse a size of shocks that there is not.

    Raises
    ------
    ArgumentError
        Which lists the sizes.
    """
    if shock not in _SHOCKS:
        raise ArgumentError(f"{setting('shock')} is one of {', '.join(_SHOCKS)}, not {shock!r}.")


def responses_of(
    found: AutoregressionFindings,
    at: Any,
    horizon: int,
    order: Sequence[str] | None,
    form: str,
    shock: str,
    cumulated: bool,
) -> Responses:
    """Return responses; see `AutoregressionFindings.responses`."""
    check_whole("horizon", horizon, 1)
    if form not in _FORMS:
        raise ArgumentError(f"{setting('form')} is one of {', '.join(_FORMS)}, not {form!r}.")
    check_shock(shock)
    if order is not None and form == "generalised":
        raise ArgumentError("Generalised responses need no order: leave one of both out.")
    places = _order(found, order)
    times = list(at) if isinstance(at, list | tuple) else [at]
    draws = {}
    for one in times:
        covariance = found.covariance_at(one)
        impact = impacts(covariance, places, form == "generalised", shock == "unit")
        moves = moved(_matrices(found, one), horizon) @ impact[:, None]
        draws[found.time_label(one)] = np.cumsum(moves, axis=1) if cumulated else moves
    series = found.study.parts.data.series
    size = "one sd of errors" if shock == "sd" else "1 in its series"
    how = (
        "errors moving together as they usually do"
        if form == "generalised"
        else "each shock moving those after it at once, in the order "
        + ", ".join(series[place] for place in places)
    )
    return Responses(
        draws=draws,
        series=series,
        shocks=series,
        words=f"shocks of {size}, {how}{', added up over steps' * bool(cumulated)}.",
        level=found.level,
        kind=found.kind,
        about=found,
    )


def shares_of(
    found: AutoregressionFindings, at: Any, horizon: int, order: Sequence[str] | None
) -> Shares:
    """Return shares; see `AutoregressionFindings.shares`."""
    check_whole("horizon", horizon, 1)
    places = _order(found, order)
    impact = impacts(found.covariance_at(at), places, False, False)
    moves = moved(_matrices(found, at), horizon - 1)
    series = found.study.parts.data.series
    return Shares(
        draws=shares_of_errors(moves, impact),
        series=series,
        shocks=series,
        words=f"at {found.time_label(at)}, shocks in the order "
        f"{', '.join(series[place] for place in places)}.",
        level=found.level,
        kind=found.kind,
    )


def _matrices(found: AutoregressionFindings, at: Any) -> np.ndarray:
    return lag_matrices(found.at(at), found.study.parts.data.lags)


def _order(found: AutoregressionFindings, order: Sequence[str] | None) -> list[int]:
    series = found.study.parts.data.series
    chosen = list(series) if order is None else [str(one) for one in check_list("order", order)]
    for one in chosen:
        if one not in series:
            raise ArgumentError(
                f"{setting('order')} names `{one}`, which is no series.{nearest(one, series)} "
                f"Series: {', '.join(series)}."
            )
    if sorted(chosen) != sorted(series):
        left = [one for one in series if one not in chosen]
        what = f"leaves out {', '.join(left)}" if left else "names a series twice"
        raise ArgumentError(f"{setting('order')} {what}: name each series once.")
    return [series.index(one) for one in chosen]
