"""Expected log predictive density by leave-one-out cross-validation.

Vehtari, Gelman and Gabry (2017), "Practical Bayesian model evaluation using leave-one-out
cross-validation and WAIC", Statistics and Computing 27(5), equations 10, 22 and 23.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
from scipy.special import logsumexp

from millwright.accuracy.pointwise import Rows, row_blocks
from millwright.accuracy.sums import sum_error, sum_text
from millwright.diagnostics.convergence import mean_size
from millwright.diagnostics.smoothing import highest_good_k, smoothed_log_weights
from millwright.display import Shown
from millwright.draws.labelled_draws import Draws

__all__ = ["LeaveOneOut", "leave_one_out"]

_MOST_NAMED = 6
_SURE, _SURE_OF_FEW, _FEW_ROWS = 0.5, 0.3, 10
"""Up to here reweighting is good whatever the error of k, which is 0.1 and more."""
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
    log_likelihood
        Log predictive density of the rows at draws that have seen them, summed.
    refitted
        Rows whose Pareto k is above the limit and whose value therefore comes from a fit without
        them.
    refit_errors
        Monte Carlo standard error of each value that comes from such a fit, else 0.
    not_refitted
        Why other such rows have no fit of their own.
    """

    rows: Rows = field(repr=False)
    elpd_by_row: np.ndarray = field(repr=False)
    k: np.ndarray = field(repr=False)
    k_limit: float
    log_likelihood: float = field(repr=False)
    refitted: Rows = ()
    refit_errors: np.ndarray = field(default_factory=lambda: np.zeros(0), repr=False)
    not_refitted: str = field(default="", repr=False)

    @property
    def elpd(self) -> float:
        """Sum over all rows; larger is better."""
        return float(self.elpd_by_row.sum())

    @property
    def effective_parameters(self) -> float:
        """Log predictive density at draws that have seen the rows, minus elpd."""
        return self.log_likelihood - self.elpd

    @property
    def se(self) -> float:
        """Standard error of the sum over rows; NaN of a single row."""
        return sum_error(self.elpd_by_row)

    @property
    def unreliable(self) -> Rows:
        """Rows whose Pareto k is above the limit and that have no fit without them."""
        return self._without_fit(~(self.k <= self.k_limit))

    @property
    def doubtful(self) -> Rows:
        """Rows whose Pareto k is above `sure`, not above the limit, without a fit without them.

        Pareto k is an estimate: the true one may be above the limit.
        """
        return self._without_fit((self.k > self.sure) & (self.k <= self.k_limit))

    @property
    def sure(self) -> float:
        """Largest k that is surely good: 0.5, or 0.3 of at most 10 rows."""
        return _SURE if len(self.rows) > _FEW_ROWS else _SURE_OF_FEW

    def _without_fit(self, which: np.ndarray) -> Rows:
        known = set(self.refitted)
        rows = (self.rows[at] for at in np.flatnonzero(which))
        return tuple(row for row in rows if row not in known)

    @property
    def way(self) -> str:
        """How the data were left out, in words."""
        return "leave-one-out"

    @property
    def reliability(self) -> str:
        """For which rows the estimate is reliable, and which were fitted again, in words."""
        sentences = [_refitted_words(self)] if self.refitted else []
        bad = self.unreliable
        if bad:
            sentences.append(_unreliable_words(self, bad))
        elif self.refitted:
            sentences.append("With that the leave-one-out estimate is reliable for all rows.")
        else:
            many = len(self.rows) > 1
            rows = f"all {len(self.rows)} rows: every" if many else "its one row: the"
            sentences.append(
                f"The leave-one-out estimate is reliable for {rows} Pareto k is at most "
                f"{self.k_limit:.2f} (smaller is better)."
            )
        if self.doubtful:
            sentences.append(_doubtful_words(self))
        return " ".join(sentences)

    def __str__(self) -> str:
        return (
            f"Leave-one-out: {sum_text(self.elpd, self.se)}, {self.effective_parameters:.1f} "
            f"effective parameters.\n{self.reliability}"
        )


def _refitted_words(result: LeaveOneOut) -> str:
    many = len(result.refitted) > 1
    error = float(np.sqrt(np.sum(result.refit_errors**2)))
    lowest = min(result.k[result.rows.index(row)] for row in result.refitted)
    high = "" if lowest > result.k_limit else ", or within its own error of that,"
    return (
        f"Pareto k is above {result.k_limit:.2f}{high} for {_named(result, result.refitted)}, so "
        f"the model was fitted again without {'each of them' if many else 'it'}, and "
        f"{'their values come' if many else 'its value comes'} from there (Monte Carlo error "
        f"{error:.2f})."
    )


def _doubtful_words(result: LeaveOneOut) -> str:
    rows = result.doubtful
    each = "each such value" if len(rows) > 1 else "its value"
    more = ", and their sum by more" if len(rows) > 1 else ""
    return (
        f"Less certain for {_named(result, rows)}: Pareto k is above {result.sure:.2f} there, so "
        f"{each} may be too good by a few tenths{more}."
    )


def _unreliable_words(result: LeaveOneOut, bad: Rows) -> str:
    many = len(bad) > 1
    why = f" Not fitted again without {'them' if many else 'it'}: {result.not_refitted}."
    return (
        f"The leave-one-out estimate is unreliable for {_named(result, bad)}: Pareto k is above "
        f"{result.k_limit:.2f} there. The posterior changes much without "
        f"{'each' if many else 'it'}: look at the data, and fit again without such a row before "
        f"you trust a small difference.{why if result.not_refitted else ''}"
    )


def _named(result: LeaveOneOut, rows: Rows) -> str:
    outcomes = {outcome for outcome, _ in result.rows}
    named = [str(row) if len(outcomes) == 1 else f"{outcome} {row}" for outcome, row in rows]
    more = f" and {len(named) - _MOST_NAMED} more" if len(named) > _MOST_NAMED else ""
    return (
        f"row{'s' if len(rows) > 1 else ''} {', '.join(named[:_MOST_NAMED])}{more} (counted from "
        f"1, of {len(result.rows)})"
    )


def leave_one_out(draws: Draws) -> LeaveOneOut:
    """Estimate the log predictive density of each row given all others."""
    rows: list[tuple[str, int]] = []
    found: list[tuple[float, float, float]] = []
    for some, log_lik in row_blocks(draws):
        rows += some
        found += _of_block(log_lik, draws.shape)
    elpd, k, in_sample = np.array(found).T
    return LeaveOneOut(
        rows=tuple(rows),
        elpd_by_row=elpd,
        k=k,
        k_limit=highest_good_k(int(np.prod(draws.shape))),
        log_likelihood=float(np.sum(in_sample)),
    )


def _of_block(log_lik: np.ndarray, shape: tuple[int, int]) -> Iterator[tuple[float, float, float]]:
    """Yield for each row its elpd, its Pareto k, and its log predictive density in the sample."""
    size = len(log_lik)
    for start in range(0, log_lik.shape[1], _ROWS_AT_ONCE):
        part = log_lik[:, start : start + _ROWS_AT_ONCE]
        share = mean_size(np.exp(part - part.max(axis=0)).reshape(*shape, -1)) / size
        share = np.where(np.isfinite(share), share, 1.0)
        by_row = np.ascontiguousarray(part.T)
        log_weights, k = np.empty_like(by_row), np.empty(len(by_row))
        for at, one in enumerate(by_row):
            log_weights[at], k[at] = smoothed_log_weights(-one, share[at])
        elpd = logsumexp(log_weights + by_row, axis=1)
        yield from zip(elpd, k, logsumexp(by_row, axis=1) - np.log(size), strict=True)
