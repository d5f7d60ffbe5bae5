"""Where variables were at each time, and what shocks moved them, given all readings."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd
from scipy import linalg

from millwright.display import Shown, frame_text
from millwright.draws.intervals import IntervalKind, interval, kind_words
from millwright.studies.expectations_paths import rest_covariance

if TYPE_CHECKING:
    from millwright.studies.expectations_parts import ExpectationsModel, Worlds

__all__ = ["Paths", "smoothed"]

_JITTER = 1e-10


@dataclass(frozen=True, kw_only=True)
class Paths(Shown):
    """What each of several quantities was at each time.

    Attributes
    ----------
    draws
        (draws, times, quantities).
    what
        `variable` or `shock`.
    """

    draws: np.ndarray = field(repr=False)
    names: tuple[str, ...]
    labels: tuple[str, ...]
    what: str
    level: float
    kind: IntervalKind

    def table(self) -> pd.DataFrame:
        """Return one row a quantity and time: median and interval."""
        words = kind_words(self.kind, self.level)
        low, high = interval(self.draws, self.level, self.kind)
        middle = np.median(self.draws, axis=0)
        index = pd.MultiIndex.from_product([self.names, self.labels], names=[self.what, "time"])
        columns = {"median": middle, f"{words}, from": low, f"{words}, to": high}
        return pd.DataFrame(
            {name: values.T.reshape(-1) for name, values in columns.items()}, index=index
        )

    def __str__(self) -> str:
        return frame_text(self.table().reset_index())


def smoothed(
    worlds: Worlds,
    parts: ExpectationsModel,
    shocks: bool,
    generator: np.random.Generator,
) -> np.ndarray:
    """Draw variables, or shocks in their sds, at each time given all readings.

    Readings of all times are one normal vector in each draw, whose covariances with variables
    and shocks are powers of the transition: no recursion is needed.

    Returns
    -------
    (draws, times, quantities), each time by itself; variables from where they rest.
    """
    values = parts.data.values
    read = ~np.isnan(values.reshape(-1))
    count = worlds.impact.shape[-1] if shocks else parts.system.named
    found = np.empty((len(worlds), len(values), count))
    for draw in range(len(worlds)):
        whole, cross, own = _covariances(worlds, parts, draw, len(values), shocks)
        whole = whole[np.ix_(read, read)]
        whole += _JITTER * np.trace(whole) / len(whole) * np.eye(len(whole))
        around = (values - worlds.levels[draw]).reshape(-1)[read]
        cross = cross[:, read]
        factor = linalg.cho_factor(whole, lower=True)
        gain = linalg.cho_solve(factor, cross.T).T
        left = np.tile(own, len(values)) - np.einsum("ij,ij->i", gain, cross)
        units = generator.standard_normal(len(left))
        found[draw] = (gain @ around + np.sqrt(left.clip(0.0)) * units).reshape(-1, count)
    return found


def _covariances(
    worlds: Worlds, parts: ExpectationsModel, draw: int, times: int, shocks: bool
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return covariances of readings, of quantities with readings, and variances of quantities."""
    transition, impact = worlds.transition[draw], worlds.impact[draw]
    rest = rest_covariance(transition[None], (impact @ impact.T)[None])[0]
    variables = list(parts.readings.variables)
    moved, answers = [rest], [impact]
    for _ in range(times - 1):
        moved.append(transition @ moved[-1])
        answers.append(transition @ answers[-1])
    later = np.array(moved)
    lag = np.arange(times)[:, None] - np.arange(times)
    own = later[:, variables][:, :, variables]
    whole = _by_lag(lag, own, own.transpose(0, 2, 1))
    whole = whole + np.diag(np.tile(worlds.errors[draw] ** 2, times))
    if shocks:
        # A shock moves readings from its own time on.
        to_come = np.array(answers)[:, variables].transpose(0, 2, 1)
        cross = _by_lag(lag, np.zeros_like(to_come), to_come, same=to_come[0])
        return whole, cross, np.ones(impact.shape[1])
    named = list(range(parts.system.named))
    forward = later[:, named][:, :, variables]
    backward = later[:, variables][:, :, named].transpose(0, 2, 1)
    return whole, _by_lag(lag, forward, backward), np.diag(rest)[named]


def _by_lag(
    lag: np.ndarray, after: np.ndarray, before: np.ndarray, same: np.ndarray | None = None
) -> np.ndarray:
    """Put blocks by lag together: `after` where the row is later, `before` transposed in time."""
    times = len(lag)
    blocks = np.where((lag >= 0)[:, :, None, None], after[np.abs(lag)], before[np.abs(lag)])
    if same is not None:
        blocks[np.arange(times), np.arange(times)] = same
    rows, columns = blocks.shape[2:]
    return blocks.transpose(0, 2, 1, 3).reshape(times * rows, times * columns)
