"""Expected log predictive density by leave-one-out cross-validation.

Vehtari, Gelman and Gabry (2017), "Practical Bayesian model evaluation using leave-one-out
cross-validation and WAIC", Statistics and Computing 27(5), equations 10, 22 and 23.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from scipy.special import logsumexp

from millwright.accuracy.smoothing import highest_good_k, smoothed_log_weights
from millwright.diagnostics.convergence import mean_size
from millwright.display import Shown
from millwright.distributions import on_numpy
from millwright.distributions.processes import GaussianProcess
from millwright.draws.labelled_draws import Draws
from millwright.errors import ModelError
from millwright.modelling.arguments import family_of
from millwright.modelling.density import log_likelihood
from millwright.modelling.labelled import DRAW, full
from millwright.modelling.missing import without_gaps
from millwright.modelling.shaping import spread_arguments
from millwright.modelling.specification import Part

__all__ = ["LeaveOneOut", "leave_one_out", "pointwise_log_likelihood"]

_ROWS_AT_ONCE = 500
"""How many rows are looked at together, to bound the memory."""


@dataclass(frozen=True, kw_only=True)
class LeaveOneOut(Shown):
    """Leave-one-out estimate of a model's predictive accuracy.

    Attributes
    ----------
    rows
        Outcome and row (counted from 1) of each entry of the arrays.
    elpd_by_row
        Log predictive density of each row given all others, shape (rows,).
    k
        Pareto k of each row.
    k_limit
        Largest k with a reliable estimate, for this number of draws.
    effective_parameters
        log likelihood minus elpd, summed over rows.
    """

    rows: tuple[tuple[str, int], ...] = field(repr=False)
    elpd_by_row: np.ndarray = field(repr=False)
    k: np.ndarray = field(repr=False)
    k_limit: float
    effective_parameters: float

    @property
    def elpd(self) -> float:
        """Sum over all rows; larger is better."""
        return float(self.elpd_by_row.sum())

    @property
    def se(self) -> float:
        """Standard error of the sum over rows."""
        return float(np.sqrt(len(self.elpd_by_row)) * self.elpd_by_row.std())

    @property
    def unreliable(self) -> tuple[tuple[str, int], ...]:
        """Rows whose Pareto k is above the limit."""
        return tuple(self.rows[at] for at in np.flatnonzero(~(self.k <= self.k_limit)))

    def __str__(self) -> str:
        lines = [
            f"Leave-one-out: elpd {self.elpd:.1f} (standard error {self.se:.1f}; larger is "
            f"better), {self.effective_parameters:.1f} effective parameters."
        ]
        return "\n".join([*lines, row_sentence(self)])


def row_sentence(result: LeaveOneOut) -> str:
    """Say for which rows the estimate is reliable."""
    bad = result.unreliable
    if not bad:
        return (
            f"The leave-one-out estimate is reliable for all {len(result.rows)} rows: every "
            f"Pareto k is at most {result.k_limit:.2f} (smaller is better)."
        )
    outcomes = {outcome for outcome, _ in result.rows}
    named = [str(row) if len(outcomes) == 1 else f"{outcome} {row}" for outcome, row in bad]
    more = f" and {len(named) - 6} more" if len(named) > 6 else ""
    each = "each" if len(bad) > 1 else "it"
    return (
        f"The leave-one-out estimate is unreliable for row{'s' if len(bad) > 1 else ''} "
        f"{', '.join(named[:6])}{more} (counted from 1, of {len(result.rows)}): Pareto k is above "
        f"{result.k_limit:.2f} there. The posterior changes much without {each}: look at the "
        "data, and fit again without such a row before you trust a small difference."
    )


def pointwise_log_likelihood(draws: Draws) -> tuple[tuple[tuple[str, int], ...], np.ndarray]:
    """Return outcome and row of each column, and the log likelihood, shape (draws, rows)."""
    evaluation = draws.evaluation()
    size = int(np.prod(draws.shape))
    rows: list[tuple[str, int]] = []
    columns = []
    with np.errstate(all="ignore"):
        for part in draws.binding.program.outcomes:
            item = log_likelihood(evaluation, part)
            if not item.labels:
                values = _conditional(draws, part, size)
                columns.append(values)
                rows += [(part.name, at + 1) for at in range(values.shape[1])]
                continue
            shape = (size, *draws.binding.program.shape(item.labels))
            values = full(item, (DRAW, *item.labels), shape).reshape(size, -1)
            numbers = np.arange(values.shape[1])
            if part.name in draws.binding.program.filled:
                # A value that was never seen cannot be left out.
                gaps = draws.binding.arguments["gaps", part.name]
                values, numbers = without_gaps(values, gaps), without_gaps(numbers, gaps)
            columns.append(values)
            rows += [(part.name, int(at) + 1) for at in numbers]
    return tuple(rows), np.concatenate(columns, axis=1)


def _conditional(draws: Draws, part: Part, size: int) -> np.ndarray:
    """Log density of each row given the other rows and the unknowns, for a Gaussian process.

    Rasmussen and Williams (2006), eq. 5.10 to 5.12.

    Raises
    ------
    ModelError
        For other outcomes whose rows depend on each other.
    """
    family = family_of(part.family, part.arguments)
    if not isinstance(family, GaussianProcess):
        raise ModelError(
            part.definition.message(
                "its rows depend on each other, so leaving one out says little about predicting "
                "the next; compare forecasts instead"
            )
        )
    binding = draws.binding
    axes = (DRAW, *dict(binding.program.outcome_axes)[part.name])
    seen = np.asarray(binding.arguments["observed", part.name])
    result = np.empty((size, len(seen)))
    step = 200
    for start in range(0, size, step):
        keep = slice(start, min(start + step, size))
        named = draws.evaluation(keep=keep).parameters(part)
        p = spread_arguments(on_numpy, part, named, axes, binding.program)
        precision = np.linalg.inv(np.asarray(family.covariance(on_numpy, p)))
        variance = 1 / np.diagonal(precision, axis1=-2, axis2=-1)
        gap = variance * np.einsum("...ij,...j->...i", precision, seen - p["location"])
        result[keep] = -0.5 * (gap * gap / variance + np.log(2 * np.pi * variance))
    return result


def leave_one_out(draws: Draws) -> LeaveOneOut:
    """Estimate the log predictive density of each row given all others."""
    rows, log_lik = pointwise_log_likelihood(draws)
    size = len(log_lik)
    chains, n = draws.shape
    share = np.concatenate(
        [
            mean_size(np.exp(part - part.max(axis=0)).reshape(chains, n, -1)) / size
            for part in np.array_split(log_lik, -(-log_lik.shape[1] // _ROWS_AT_ONCE), axis=1)
        ]
    )
    share = np.where(np.isfinite(share), share, 1.0)
    elpd = np.empty(len(rows))
    k = np.empty(len(rows))
    for at in range(len(rows)):
        log_weights, k[at] = smoothed_log_weights(-log_lik[:, at], share[at])
        elpd[at] = logsumexp(log_weights + log_lik[:, at])
    in_sample = logsumexp(log_lik, axis=0) - np.log(size)
    return LeaveOneOut(
        rows=rows,
        elpd_by_row=elpd,
        k=k,
        k_limit=highest_good_k(size),
        effective_parameters=float(np.sum(in_sample - elpd)),
    )
