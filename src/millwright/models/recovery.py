"""Fake data with a known truth, many times: bias, coverage, width of intervals."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd

from millwright.checks import check_list, check_whole
from millwright.display import Shown, text_table
from millwright.draws.numbers import decimals_of, fixed
from millwright.models.replications import Replicated, replicated, shuffled_rows

__all__ = ["Recovery", "recover"]

_LEVELS = (0.5, 0.95)


@dataclass(frozen=True, kw_only=True)
class Recovery(Shown):
    """The result of `Model.recovery`.

    Attributes
    ----------
    frame
        One row for each number of rows and quantity; see `Model.recovery`.
    replications
        How many data sets were simulated for each number of rows.
    given
        Quantities that were held at a stated truth; others were drawn from the prior.
    failures
        How many data sets could not be fitted, by number of rows.
    """

    frame: pd.DataFrame = field(repr=False)
    replications: int
    given: tuple[str, ...]
    failures: Mapping[Any, int] = field(default_factory=dict)

    def __str__(self) -> str:
        lines = []
        for rows, part in self.frame.groupby(level="rows", sort=False):
            part = part.droplevel("rows")
            lines += [f"{rows} rows, {self.replications} simulated data sets:"]
            lines.append(text_table([str(name) for name in part.index], _shown(part)))
            if self.failures.get(rows):
                lines.append(f"{self.failures[rows]} data sets could not be fitted.")
        lines += self._widths()
        held = (
            "Truths were drawn from the prior for each data set, so intervals should cover at "
            "their level."
            if not self.given
            else f"Held at a stated truth: {', '.join(self.given)}. For one fixed truth, "
            "intervals need not cover at exactly their level; over truths drawn from the "
            "prior they do."
        )
        lines.append(
            "Bias: mean of (posterior mean - truth), with its Monte Carlo error; 0 is best. "
            f"Coverage: share of intervals that hold the truth. {held}"
        )
        return "\n".join(lines)

    def _widths(self) -> list[str]:
        """Say how the width of intervals falls with more rows."""
        sizes = list(dict.fromkeys(self.frame.index.get_level_values("rows")))
        if len(sizes) < 2:
            return []
        names = dict.fromkeys(self.frame.index.get_level_values("quantity"))
        chosen = [name for name in names if name.split("[")[0] in self.given] or list(names)
        sentences = []
        for name in chosen[:12]:
            widths = self.frame.xs(name, level="quantity")["width of 95 % interval"]
            parts = [f"{widths[size]:.3g} with {size} rows" for size in sizes if size in widths]
            sentences.append(f"The 95 % interval of `{name}` is {', '.join(parts)} wide.")
        return sentences


def recover(
    model: Any,
    data: Any,
    given: Mapping[str, Any] | None,
    replications: int,
    rows: Sequence[int] | int | None,
    seed: int,
    settings: Mapping[str, Any],
) -> Recovery:
    """Simulate data sets with a known truth and fit each; see `Model.recovery`."""
    check_whole("seed", seed, 0)
    one = rows is None or isinstance(rows, int | np.integer)
    asked = [rows] if one else check_list("rows", rows) or [None]
    for number in asked:
        if number is not None:
            check_whole("rows", number, 1)
    frames, failures = {}, {}
    for at, number in enumerate(asked):
        own, size = data, number
        if data is not None and number is not None:
            own, size = shuffled_rows(data, number, seed), None
        made = replicated(model, own, replications, seed + at, given, size, settings)
        count = number or _rows_of(made)
        frames[count] = _frame(made)
        failures[count] = len(made.fits.failures)
    frame = pd.concat(frames, names=["rows", "quantity"])
    return Recovery(
        frame=frame, replications=replications, given=tuple(given or {}), failures=failures
    )


def _rows_of(made: Replicated) -> int:
    sizes = made.posteriors[0].draws.binding.tables.sizes
    return max(sizes.values(), default=0)


def _frame(made: Replicated) -> pd.DataFrame:
    singles = [one.draws.single() for one in made.posteriors]
    share = made.good / len(singles)
    rows = {}
    for name, truth in made.truths.items():
        flat = [single[name].reshape(-1) for single in singles if name in single]
        if len(flat) < len(truth):
            continue
        error = np.array([value.mean() for value in flat]) - truth
        ends = {level: _ends(flat, level) for level in _LEVELS}
        inside = {level: (low <= truth) & (truth <= high) for level, (low, high) in ends.items()}
        low, high = ends[0.95]
        rows[name] = {
            "truth": float(truth[0]) if np.ptp(truth) == 0 else np.nan,
            "bias": float(error.mean()),
            "error of bias": float(error.std(ddof=1) / np.sqrt(len(error))),
            "root mean square error": float(np.sqrt(np.mean(error**2))),
            "coverage of 50 % interval": float(inside[0.5].mean()),
            "coverage of 95 % interval": float(inside[0.95].mean()),
            "width of 95 % interval": float(np.mean(high - low)),
            "share converged": share,
        }
    return pd.DataFrame(rows).T


def _ends(flat: Sequence[np.ndarray], level: float) -> tuple[np.ndarray, np.ndarray]:
    tails = [(1 - level) / 2, (1 + level) / 2]
    low, high = np.array([np.quantile(value, tails) for value in flat]).T
    return low, high


def _shown(part: pd.DataFrame) -> dict[str, list[str]]:
    digits = [decimals_of(value) for value in part["root mean square error"]]
    scaled = {
        "bias": ("bias", "error of bias"),
        "rms error": ("root mean square error", None),
        "width of 95 % interval": ("width of 95 % interval", None),
    }
    shown = {
        "truth": ["from the prior" if np.isnan(value) else f"{value:g}" for value in part["truth"]]
    }
    for heading, (column, error) in scaled.items():
        cells = [fixed(v, d) for v, d in zip(part[column], digits, strict=True)]
        if error:
            errors = [fixed(v, d) for v, d in zip(part[error], digits, strict=True)]
            cells = [f"{a} +- {b}" for a, b in zip(cells, errors, strict=True)]
        shown[heading] = cells
    for level in ("50 %", "95 %"):
        column = f"coverage of {level} interval"
        shown[f"{level} interval covers"] = [f"{100 * v:.0f} %" for v in part[column]]
    shown["converged"] = [f"{100 * v:.0f} %" for v in part["share converged"]]
    return shown
