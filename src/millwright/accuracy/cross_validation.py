"""How well a model predicts groups of rows that it has not seen, or rows in folds."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from millwright.accuracy.sums import sum_error, sum_text
from millwright.display import Shown, frame_text
from millwright.draws.numbers import fixed

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["CrossValidation"]

_MOST_NAMED = 6
_MOST_SHOWN = 30


@dataclass(frozen=True, kw_only=True)
class CrossValidation(Shown):
    """Expected log predictive density by fits without a part of the data.

    Attributes
    ----------
    rows
        What was predicted: groups, or outcome and row (counted from 1).
    elpd_by_row
        Log predictive density of each given the rows that its fit had seen, shape (rows,); of a
        group it is that of all its rows together.
    error_by_row
        Its Monte Carlo standard error.
    sizes
        Number of rows of each.
    largest_error
        Above it a Monte Carlo error makes a value unreliable.
    by
        What cut the rows into groups; empty for folds.
    folds
        Number of fits.
    failures
        Folds or groups whose fit is not to be relied on, with the reason.
    """

    rows: tuple[Any, ...] = field(repr=False)
    elpd_by_row: np.ndarray = field(repr=False)
    error_by_row: np.ndarray = field(repr=False)
    sizes: np.ndarray = field(repr=False)
    largest_error: float
    folds: int
    by: str = ""
    failures: Mapping[Any, str] = field(default_factory=dict)

    @property
    def elpd(self) -> float:
        """Sum over all; larger is better. NaN if one of them is not known."""
        return float(self.elpd_by_row.sum())

    @property
    def se(self) -> float:
        """Standard error of the sum over rows or groups."""
        return sum_error(self.elpd_by_row)

    @property
    def unreliable(self) -> tuple[Any, ...]:
        """What has no value, or one with a large Monte Carlo error."""
        bad = ~(self.error_by_row <= self.largest_error)
        return tuple(self.rows[at] for at in np.flatnonzero(bad))

    @property
    def way(self) -> str:
        """How the data were left out, in words."""
        if self.by:
            return (
                f"leaving out each of {self.folds} groups of `{self.by}` in turn (of a group, the "
                "density of all its rows together)"
            )
        return f"{self.folds} fits, each without another part of the rows"

    @property
    def reliability(self) -> str:
        """Which values can be relied on, in a sentence."""
        bad = self.unreliable
        what = "groups" if self.by else "rows"
        if not bad:
            return f"The values of all {len(self.rows)} {what} can be relied on."
        single = not self.by and len({row[0] for row in self.rows}) == 1
        texts = [_row_text(row, single) for row in bad[:_MOST_NAMED]]
        named = f"{what if len(bad) > 1 else what[:-1]} {', '.join(texts)}"
        more = f" and {len(bad) - _MOST_NAMED} more" if len(bad) > _MOST_NAMED else ""
        whys = list(dict.fromkeys(self.failures.values()))
        why = f" Of a fit without them: {whys[0]}" if whys else ""
        advice = "" if self.by else " For single rows far out, leave_one_out() is the better way."
        return (
            f"UNRELIABLE for {named}{more}: the Monte Carlo error is above "
            f"{self.largest_error:g} or not known.{why}{advice}"
        )

    def table(self) -> pd.DataFrame:
        """Return one row a group, or an outcome and row: number of rows, elpd, its error."""
        import pandas as pd

        index: Any
        if self.by:
            index = pd.Index(self.rows, name=self.by)
        else:
            index = pd.MultiIndex.from_tuples(self.rows, names=["outcome", "row"])
        columns = {
            "rows": self.sizes,
            "elpd": self.elpd_by_row,
            "Monte Carlo error": self.error_by_row,
        }
        if not self.by:
            del columns["rows"]
        return pd.DataFrame(columns, index=index)

    def __str__(self) -> str:
        whole = "elpd is not known, since it is not for some of them."
        if np.isfinite(self.elpd):
            whole = f"{sum_text(self.elpd, self.se)}."
        head = f"Cross-validation by {self.way}: {whole}"
        lines = [head]
        if self.by and len(self.rows) <= _MOST_SHOWN:
            shown = self.table()
            shown["elpd"] = [_known(value, 1) for value in shown["elpd"]]
            errors = shown["Monte Carlo error"]
            shown["Monte Carlo error"] = [_known(value, 2) for value in errors]
            lines.append(frame_text(shown))
        return "\n".join([*lines, self.reliability])


def _known(value: float, decimals: int) -> str:
    return fixed(float(value), decimals) if np.isfinite(value) else "not known"


def _row_text(row: Any, single: bool) -> str:
    if not isinstance(row, tuple):
        return str(row)
    return str(row[1]) if single else f"{row[0]} {row[1]}"
