"""Credible intervals: central and highest-density."""

from __future__ import annotations

from typing import Literal, get_args

import numpy as np

from millwright.errors import ArgumentError

__all__ = ["IntervalKind", "check_kind", "check_level", "interval", "kind_words"]

IntervalKind = Literal["central", "hdi"]


def check_level(level: float) -> float:
    """Return `level`, or refuse what is not a probability between 0 and 1."""
    if not isinstance(level, (int, float)) or not 0 < level < 1:
        raise ArgumentError(f"`level` must be above 0 and below 1, such as 0.95; it is {level!r}.")
    return float(level)


def check_kind(kind: IntervalKind) -> IntervalKind:
    """Return `kind`, or refuse what is no kind of interval."""
    if kind not in get_args(IntervalKind):
        raise ArgumentError(f"`kind` must be 'central' or 'hdi', not {kind!r}.")
    return kind


def kind_words(kind: IntervalKind, level: float) -> str:
    """Return the name of an interval for headings: `95 % central interval`."""
    number = f"{100 * level:.6g} %"
    return f"{number} central interval" if kind == "central" else f"{number} HDI"


def interval(
    draws: np.ndarray, level: float = 0.95, kind: IntervalKind = "central"
) -> tuple[np.ndarray, np.ndarray]:
    """Return both ends of a credible interval.

    Parameters
    ----------
    draws
        Shape (draws, ...); the first axis is summarised.
    level
        Posterior probability inside.
    kind
        `central` leaves equal probability on both sides. `hdi` is the shortest interval (Chen
        and Shao 1999); for a posterior with one hump it holds the values of highest density.

    Raises
    ------
    ArgumentError
        For a level outside (0, 1) or another kind.
    """
    level = check_level(level)
    check_kind(kind)
    if kind == "central":
        ends = np.quantile(draws, [(1 - level) / 2, (1 + level) / 2], axis=0)
        return ends[0], ends[1]
    ordered = np.sort(draws, axis=0)
    n = len(ordered)
    inside = min(n - 1, int(np.ceil(level * n)))
    widths = ordered[inside:] - ordered[: n - inside]
    first = np.expand_dims(np.argmin(widths, axis=0), 0)
    low = np.take_along_axis(ordered, first, axis=0)[0]
    high = np.take_along_axis(ordered, first + inside, axis=0)[0]
    return low, high
