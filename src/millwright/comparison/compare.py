"""Several models of the same data, side by side."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
import pandas as pd

from millwright.accuracy.leave_one_out import LeaveOneOut, row_sentence
from millwright.comparison.outcomes_alike import check_posteriors, check_same_outcomes
from millwright.display import Shown, frame_text
from millwright.errors import ArgumentError
from millwright.posterior.posterior import Posterior

__all__ = ["Comparison", "compare"]


@dataclass(frozen=True)
class Comparison(Shown):
    """Models ordered by expected log predictive density, the best first.

    Attributes
    ----------
    results
        Leave-one-out result of each model, the best first.
    """

    results: Mapping[str, LeaveOneOut] = field(repr=False)

    def table(self) -> pd.DataFrame:
        """Return one row a model, the best first.

        Returns
        -------
        elpd with its standard error, its difference from the best model's (0 for the best, else
        below 0) with the standard error of that difference, effective parameters, and the number
        of rows with a Pareto k above the limit."""
        names = list(self.results)
        best = self.results[names[0]]
        rows = []
        for result in self.results.values():
            gap = result.elpd_by_row - best.elpd_by_row
            rows.append(
                {
                    "elpd": result.elpd,
                    "SE": result.se,
                    "elpd difference": float(gap.sum()),
                    "SE of difference": float(np.sqrt(gap.size) * gap.std()),
                    "effective parameters": result.effective_parameters,
                    "rows with high Pareto k": len(result.unreliable),
                }
            )
        return pd.DataFrame(rows, index=pd.Index(names, name="model"))

    @property
    def sentence(self) -> str:
        """What follows from the comparison of the two best models, and how sure it is."""
        names = list(self.results)
        table = self.table()
        gap, se = -table.iloc[1]["elpd difference"], table.iloc[1]["SE of difference"]
        size = f"by {gap:.1f} in elpd, with a standard error of {se:.1f}"
        if all(
            np.array_equal(self.results[names[0]].elpd_by_row, self.results[name].elpd_by_row)
            for name in names[1:]
        ):
            return (
                f"{' and '.join(f'`{name}`' for name in names)} predict every row alike: they are "
                "one fit, or equal models. There is nothing to compare."
            )
        few = len(self.results[names[0]].rows) < 30
        caution = " With fewer than 30 rows the standard error is itself rough." if few else ""
        if gap < 4:
            return (
                f"`{names[0]}` and `{names[1]}` predict about equally well ({size}; a "
                "difference below 4 is small). Prefer the simpler or the better founded."
            )
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
            shown[column] = [f"{value:.1f}" for value in shown[column]]
        lines = [
            self.sentence,
            frame_text(shown),
            "elpd: expected log predictive density by leave-one-out; larger is better. The "
            "difference is from the best model's.",
        ]
        lines += [f"{name}: {row_sentence(result)}" for name, result in self.results.items()]
        return "\n".join(lines)


def compare(**posteriors: Posterior) -> Comparison:
    """Compare models of the same data by leave-one-out: `compare(straight=a, flat=b)`.

    Raises
    ------
    ArgumentError
        For fewer than two, or for models of different outcomes.
    """
    found = check_posteriors(posteriors)
    if len(found) < 2:
        raise ArgumentError("A comparison needs at least two models: compare(one=a, other=b).")
    check_same_outcomes(found, "predictive densities")
    results = {name: posterior.leave_one_out() for name, posterior in found.items()}
    order = sorted(results, key=lambda name: -results[name].elpd)
    return Comparison({name: results[name] for name in order})
