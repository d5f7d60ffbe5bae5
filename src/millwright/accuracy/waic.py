"""The widely applicable information criterion, as an estimate of predictive accuracy.

Watanabe (2010), "Asymptotic equivalence of Bayes cross validation and widely applicable
information criterion in singular learning theory", JMLR 11, on the scale of elpd; the warning
after Vehtari, Gelman and Gabry (2017), section 3.2.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from scipy.special import logsumexp

from millwright.accuracy.pointwise import row_blocks
from millwright.accuracy.sums import sum_error, sum_text
from millwright.display import Shown
from millwright.draws.conditioning import joint_outcomes
from millwright.draws.labelled_draws import Draws
from millwright.errors import ModelError

__all__ = ["Waic", "waic"]

_LARGEST = 0.4
_MOST_NAMED = 6


@dataclass(frozen=True, kw_only=True)
class Waic(Shown):
    """WAIC estimate of a model's predictive accuracy, on the scale of elpd: larger is better.

    Attributes
    ----------
    rows
        Outcome and row (counted from 1) of each entry of the arrays.
    elpd_by_row
        Estimate of each row, shape (rows,).
    variance_by_row
        Posterior variance of each row's log likelihood; above 0.4 the estimate is unreliable.
    """

    rows: tuple[tuple[str, int], ...] = field(repr=False)
    elpd_by_row: np.ndarray = field(repr=False)
    variance_by_row: np.ndarray = field(repr=False)

    @property
    def elpd(self) -> float:
        """Sum over all rows; larger is better."""
        return float(self.elpd_by_row.sum())

    @property
    def waic(self) -> float:
        """The criterion itself, -2 elpd; smaller is better."""
        return -2 * self.elpd

    @property
    def se(self) -> float:
        """Standard error of the sum over rows; NaN of a single row."""
        return sum_error(self.elpd_by_row)

    @property
    def effective_parameters(self) -> float:
        """Sum of the variances."""
        return float(self.variance_by_row.sum())

    @property
    def unreliable(self) -> tuple[tuple[str, int], ...]:
        """Rows whose variance is above 0.4."""
        return tuple(self.rows[at] for at in np.flatnonzero(~(self.variance_by_row <= _LARGEST)))

    def __str__(self) -> str:
        lines = [
            f"WAIC: {sum_text(self.elpd, self.se)}, {self.effective_parameters:.1f} effective "
            f"parameters; WAIC itself {self.waic:.1f} (smaller is better)."
        ]
        if self.unreliable:
            named = ", ".join(str(row) for _, row in self.unreliable[:_MOST_NAMED])
            more = len(self.unreliable) - _MOST_NAMED
            lines.append(
                f"Unreliable for row {named}{f' and {more} more' if more > 0 else ''}: the log "
                f"likelihood varies by more than {_LARGEST} there. Use leave_one_out(), whose "
                "Pareto k says more."
            )
        return "\n".join(lines)


def waic(draws: Draws) -> Waic:
    """Return the WAIC of a fit, row by row.

    Raises
    ------
    ModelError
        For outcomes whose rows depend on each other, of which no row has a likelihood of its own.
    """
    joint = joint_outcomes(draws.binding)
    if joint:
        followed = joint[0].family != "gaussian_process"
        raise ModelError(
            f"The rows of `{joint[0].name}` depend on each other, so WAIC is not defined for "
            f"them; {'compare forecasts' if followed else 'see leave_one_out()'}."
        )
    rows: list[tuple[str, int]] = []
    variance, density = [], []
    for some, log_lik in row_blocks(draws):
        rows += some
        variance.append(log_lik.var(axis=0, ddof=1))
        density.append(logsumexp(log_lik, axis=0) - np.log(len(log_lik)))
    spread = np.concatenate(variance)
    return Waic(
        rows=tuple(rows),
        elpd_by_row=np.concatenate(density) - spread,
        variance_by_row=spread,
    )
