"""The posterior table: one row a quantity, every column with its meaning in the heading."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from millwright.diagnostics.convergence import mcse_mean, mcse_quantile, mcse_sd
from millwright.diagnostics.measures import Measures, measure
from millwright.draws.intervals import IntervalKind, interval, kind_words
from millwright.draws.labelled_draws import Draws
from millwright.draws.numbers import probability_text, supported, supported_range

__all__ = ["TABLE_KEY", "Table", "make_table"]

TABLE_KEY = (
    "R-hat: 1.00 is perfect, up to 1.01 is good, larger is worse. "
    "ESS (effective draws): more is better. Digits are cut to what the draws support."
)


@dataclass(frozen=True)
class Table:
    """A posterior table as numbers and as text.

    Attributes
    ----------
    names
        One quantity a row.
    columns
        Numbers of each column; see `Posterior.table`.
    shown
        Text of each cell, with only the digits that the draws support.
    """

    names: tuple[str, ...]
    columns: Mapping[str, np.ndarray] = field(repr=False)
    shown: Mapping[str, Sequence[str]] = field(repr=False)


def make_table(
    draws: Draws,
    names: Sequence[str] | None = None,
    level: float = 0.95,
    kind: IntervalKind = "central",
    measures: Measures | None = None,
) -> Table:
    """Summarise quantities; see `Posterior.table`.

    `measures` are convergence numbers that are known already; others are worked out.
    """
    with np.errstate(invalid="ignore", over="ignore"):
        return _summarised(draws.single(names), level, kind, measures)


def _summarised(
    single: Mapping[str, np.ndarray], level: float, kind: IntervalKind, measures: Measures | None
) -> Table:
    if measures is None or not set(single) <= set(measures.names):
        measures = measure(single)
    rows = [measures.names.index(name) for name in single]
    x = np.stack(list(single.values()), axis=-1)
    flat = x.reshape(-1, x.shape[-1])
    low, high = interval(flat, level, kind)
    name = kind_words(kind, level)
    columns = {
        "mean": flat.mean(axis=0),
        "sd": flat.std(axis=0, ddof=1),
        "median": np.median(flat, axis=0),
        f"{name}, from": low,
        f"{name}, to": high,
        "probability above 0": (flat > 0).mean(axis=0),
        "R-hat": measures.r_hat[rows],
        "bulk ESS": measures.ess_bulk[rows],
        "tail ESS": measures.ess_tail[rows],
        "MCSE of mean": mcse_mean(x),
    }
    return Table(tuple(single), columns, _shown(columns, x, level, name))


def _shown(
    columns: Mapping[str, np.ndarray], x: np.ndarray, level: float, name: str
) -> dict[str, list[str]]:
    """Return the cells as text; both ends of an interval get the same digits."""
    tails = ((1 - level) / 2, (1 + level) / 2)
    errors = {
        "mean": columns["MCSE of mean"],
        "sd": mcse_sd(x),
        "median": mcse_quantile(x, 0.5),
    }
    shown = {
        column: [supported(v, e) for v, e in zip(columns[column], error, strict=True)]
        for column, error in errors.items()
    }
    ends = zip(
        columns[f"{name}, from"],
        columns[f"{name}, to"],
        np.fmax(mcse_quantile(x, tails[0]), mcse_quantile(x, tails[1])),
        strict=True,
    )
    size = x.shape[0] * x.shape[1]
    shown[name] = [supported_range(low, high, error) for low, high, error in ends]
    shown["P(above 0)"] = [probability_text(p, size) for p in columns["probability above 0"]]
    shown["R-hat"] = [f"{value:.3f}" for value in columns["R-hat"]]
    shown["bulk ESS"] = [f"{value:.0f}" for value in columns["bulk ESS"]]
    shown["tail ESS"] = [f"{value:.0f}" for value in columns["tail ESS"]]
    return shown
