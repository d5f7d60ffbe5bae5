"""Several models of the same data, side by side."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd

from millwright.accuracy.cross_validation import CrossValidation
from millwright.accuracy.leave_one_out import LeaveOneOut
from millwright.accuracy.sums import sum_error
from millwright.comparison.outcomes_alike import check_posteriors, check_same_outcomes
from millwright.display import Shown, frame_text
from millwright.errors import ArgumentError
from millwright.posterior.posterior import Posterior
from millwright.sampling.progress import Listener

__all__ = ["Comparison", "compare", "compared"]


@dataclass(frozen=True)
class Comparison(Shown):
    """Models ordered by expected log predictive density, the best first.

    Attributes
    ----------
    results
        Leave-one-out, or cross-validation by groups or folds, of each model; the best first.
    """

    results: Mapping[str, LeaveOneOut | CrossValidation] = field(repr=False)

    def table(self) -> pd.DataFrame:
        """Return one row a model, the best first.

        Returns
        -------
        elpd with its standard error, its difference from the best model's (0 for the best, else
        below 0) with the standard error of that difference; by leave-one-out the effective
        parameters; and how many rows (or groups) have no reliable value.
        """
        names = list(self.results)
        best = self.results[names[0]]
        rows = []
        for result in self.results.values():
            gap = result.elpd_by_row - best.elpd_by_row
            row: dict[str, Any] = {
                "elpd": result.elpd,
                "SE": result.se,
                "elpd difference": float(gap.sum()),
                "SE of difference": sum_error(gap),
            }
            if isinstance(result, LeaveOneOut):
                row["effective parameters"] = result.effective_parameters
            grouped = isinstance(result, CrossValidation) and result.by
            row["unreliable groups" if grouped else "unreliable rows"] = len(result.unreliable)
            rows.append(row)
        return pd.DataFrame(rows, index=pd.Index(names, name="model"))

    @property
    def sentence(self) -> str:
        """What follows from the comparison of the two best models, and how sure it is."""
        names = list(self.results)
        table = self.table()
        gap, se = -table.iloc[1]["elpd difference"], table.iloc[1]["SE of difference"]
        size = f"by {gap:.1f} in elpd, with a standard error "
        size += f"of {se:.1f}" if np.isfinite(se) else "that a single row does not tell"
        if all(
            np.array_equal(self.results[names[0]].elpd_by_row, self.results[name].elpd_by_row)
            for name in names[1:]
        ):
            return (
                f"{' and '.join(f'`{name}`' for name in names)} predict every row alike: they are "
                "one fit, or equal models. There is nothing to compare."
            )
        few = len(self.results[names[0]].rows) < 30
        best = self.results[names[0]]
        what = "groups" if isinstance(best, CrossValidation) and best.by else "rows"
        caution = f" With fewer than 30 {what} the standard error is itself rough." if few else ""
        if not np.isfinite(gap):
            return "These models cannot be compared: some values are not known (see below)."
        if gap < 4:
            return (
                f"`{names[0]}` and `{names[1]}` predict about equally well ({size}; a "
                "difference below 4 is small). Prefer the simpler or the better founded."
            )
        if not np.isfinite(se):
            return f"`{names[0]}` predicts that row better than `{names[1]}` ({size})."
        if gap < 2 * se:
            return (
                f"`{names[0]}` seems to predict better than `{names[1]}` ({size}), but not "
                f"clearly: the difference is less than two standard errors.{caution}"
            )
        return (
            f"`{names[0]}` predicts better than `{names[1]}` ({size}): the difference is "
            f"{gap / max(se, 1e-12):.1f} standard errors.{caution}"
        )

    def __str__(self) -> str:
        table = self.table()
        shown = table.copy()
        for column in shown.columns[:-1]:
            shown[column] = [
                f"{value:.1f}" if np.isfinite(value) else "not known" for value in shown[column]
            ]
        lines = [
            self.sentence,
            frame_text(shown),
            f"elpd: expected log predictive density by {next(iter(self.results.values())).way}; "
            "larger is better. The difference is from the best model's.",
        ]
        lines += [f"{name}: {result.reliability}" for name, result in self.results.items()]
        return "\n".join(lines)


def compare(
    *,
    repair: bool = True,
    folds: int | None = None,
    by: str | Sequence[Any] | np.ndarray | None = None,
    progress: bool | Listener = True,
    **posteriors: Posterior,
) -> Comparison:
    """Compare models of the same data by how well each predicts: `compare(straight=a, flat=b)`.

    Parameters
    ----------
    repair
        Whether models are fitted again without rows for which reweighting fails.
    folds, by
        In place of leave-one-out: rows in so many folds, or groups of a column (or of one label
        a row), are predicted from fits without them; see `Posterior.cross_validation`.
    progress
        Whether to show the progress of fits that this takes, or a listener.
    posteriors
        The models, by any name.

    Returns
    -------
    The models in order, with `.table()` and a sentence.

    Raises
    ------
    ArgumentError
        For fewer than two, or for models of different outcomes.
    """
    for name, value in (("repair", repair), ("folds", folds), ("by", by), ("progress", progress)):
        if isinstance(value, Posterior):
            raise ArgumentError(f"`{name}` is a setting of compare(): call that model otherwise.")
    return compared(posteriors, repair, folds, by, progress)


def compared(
    posteriors: Mapping[str, Posterior],
    repair: bool = True,
    folds: int | None = None,
    by: str | Sequence[Any] | np.ndarray | None = None,
    progress: bool | Listener = True,
) -> Comparison:
    """Compare models by name, which may be any; see `compare`."""
    found = check_posteriors(posteriors)
    if len(found) < 2:
        raise ArgumentError("A comparison needs at least two models: compare(one=a, other=b).")
    check_same_outcomes(found, "predictive densities")
    results: dict[str, LeaveOneOut | CrossValidation] = {}
    for name, one in found.items():
        if folds is None and by is None:
            results[name] = one.leave_one_out(repair=repair, progress=progress)
        else:
            results[name] = one.cross_validation(folds=folds, by=by, progress=progress)
    order = sorted(results, key=lambda name: -np.nan_to_num(results[name].elpd, nan=-np.inf))
    return Comparison({name: results[name] for name in order})
