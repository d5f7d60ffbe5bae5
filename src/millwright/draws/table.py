"""The posterior table: one row a quantity, every column with its meaning in the heading."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd

from millwright.diagnostics.convergence import (
    ess_bulk,
    ess_tail,
    mcse_mean,
    mcse_quantile,
    mcse_sd,
    r_hat,
)
from millwright.draws.intervals import IntervalKind, interval, kind_words
from millwright.draws.labelled_draws import Draws
from millwright.draws.numbers import probability_text, supported

__all__ = ["Table", "make_table"]


@dataclass(frozen=True)
class Table:
    """A posterior table as numbers and as text.

    Attributes
    ----------
    frame
        One row a quantity; see `Posterior.table` for the columns.
    text
        The same with only the digits that the draws support.
    """

    frame: pd.DataFrame
    text: str

    def __str__(self) -> str:
        return self.text


def make_table(
    draws: Draws,
    names: Sequence[str] | None = None,
    level: float = 0.95,
    kind: IntervalKind = "central",
) -> Table:
    """Summarise quantities; see `Posterior.table`."""
    single = draws.single(names)
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
        "R-hat": r_hat(x),
        "bulk ESS": ess_bulk(x),
        "tail ESS": ess_tail(x),
        "MCSE of mean": mcse_mean(x),
    }
    frame = pd.DataFrame(columns, index=pd.Index(list(single), name="quantity"))
    return Table(frame, _text(frame, x, level, name))


def _text(frame: pd.DataFrame, x: np.ndarray, level: float, name: str) -> str:
    tails = ((1 - level) / 2, (1 + level) / 2)
    errors = {
        "mean": frame["MCSE of mean"].to_numpy(),
        "sd": mcse_sd(x),
        "median": mcse_quantile(x, 0.5),
    }
    # Both ends of an interval are shown alike, to the digits of the less certain one.
    errors["ends"] = np.fmax(mcse_quantile(x, tails[0]), mcse_quantile(x, tails[1]))
    size = x.shape[0] * x.shape[1]

    def cells(column: str, key: str) -> list[str]:
        return [supported(v, e) for v, e in zip(frame[column], errors[key], strict=True)]

    ends = zip(cells(f"{name}, from", "ends"), cells(f"{name}, to", "ends"), strict=True)
    shown = pd.DataFrame(
        {
            "mean": cells("mean", "mean"),
            "sd": cells("sd", "sd"),
            "median": cells("median", "median"),
            name: [f"{low} to {high}" for low, high in ends],
            "P(above 0)": [probability_text(p, size) for p in frame["probability above 0"]],
            "R-hat": [f"{value:.3f}" for value in frame["R-hat"]],
            "bulk ESS": [f"{value:.0f}" for value in frame["bulk ESS"]],
            "tail ESS": [f"{value:.0f}" for value in frame["tail ESS"]],
        },
        index=frame.index.rename(None),
    )
    key = (
        "R-hat: 1.00 is perfect, up to 1.01 is good, larger is worse. "
        "ESS (effective draws): more is better. Digits are cut to what the draws support."
    )
    return shown.to_string(max_rows=60) + "\n" + key
