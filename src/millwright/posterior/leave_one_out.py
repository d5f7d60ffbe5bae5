"""Leave-one-out where reweighting fails for a few rows: the model is fitted again without each."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from millwright.accuracy.leave_one_out import LeaveOneOut
from millwright.accuracy.pointwise import Rows
from millwright.diagnostics.verdict import Verdict
from millwright.draws.labelled_draws import Draws
from millwright.errors import MillwrightError
from millwright.fitting.fit import Fit
from millwright.modelling.left_out import likelihood_axes
from millwright.posterior.left_out import LARGEST_ERROR, bridged_each
from millwright.sampling.progress import Listener

__all__ = ["MOST_REFITS", "repaired"]

MOST_REFITS = 100
_FEW_DOUBTFUL, _CHEAP = 10, 1e8
"""So many doubtful rows are fitted anyway; more of them where all gradients of these fits, times
rows and unknown numbers, are no more than that: about 15 seconds."""
_ERROR, _NEGLIGIBLE = 0.3, 0.1
"""How far reweighting is off at such a row, and what share of the standard error matters."""


def repaired(result: LeaveOneOut, fit: Fit, verdict: Verdict, listener: Listener) -> LeaveOneOut:
    """Return the estimate with its unreliable rows from fits without each of them.

    So are rows that may be unreliable, where that takes few fits and the standard error is not
    much larger in any case. Rows that cannot be mended stay unreliable, with the reason.
    """
    bad = result.unreliable
    why = _not_mendable(bad, fit, verdict)
    rows = [row for row in (*bad, *_worth_a_fit(result, fit)) if _has_rows(fit.draws, row[0])]
    if why or not rows:
        why = why or "the rows of this outcome depend on each other in the model"
        return replace(result, not_refitted=why)
    try:
        units = {(name, number): {name: [number - 1]} for name, number in rows}
        found, failures = bridged_each(fit, units, listener)
    except MillwrightError as failure:
        first = str(failure).splitlines()[0].rstrip(".")
        return replace(result, not_refitted=f"fitting again failed: {first}")
    done = {row: one for row, one in found.items() if one[1] <= LARGEST_ERROR}
    values, errors = result.elpd_by_row.copy(), np.zeros(len(result.rows))
    for row, (value, error) in done.items():
        at = result.rows.index(row)
        values[at], errors[at] = value, error
    failed = ""
    if not done.keys() >= set(bad):
        why = next(iter(failures.values()), "the posterior changes too much without it")
        failed = f"such a fit is not to be relied on ({why.rstrip('.')})"
    return replace(
        result,
        elpd_by_row=values,
        refitted=tuple(done),
        refit_errors=errors,
        not_refitted=failed,
    )


def _worth_a_fit(result: LeaveOneOut, fit: Fit) -> Rows:
    """Return the doubtful rows whose errors would be seen, where fits without them are cheap.

    Of a walk read once a step nearly every row is doubtful, and all of them err to one side: by
    1.6 in sum, measured at 20 steps.
    """
    rows = result.doubtful
    count = len(rows) + len(result.unreliable)
    steps = fit.statistics.get("evaluations", np.array(np.inf))
    each = float(steps.sum()) * (len(result.rows) + fit.draws.binding.dimension)
    cheap = count <= _FEW_DOUBTFUL or (count <= MOST_REFITS and count * each <= _CHEAP)
    hidden = _ERROR * len(rows) <= _NEGLIGIBLE * result.se
    return rows if cheap and not hidden else ()


def _not_mendable(bad: Rows, fit: Fit, verdict: Verdict) -> str:
    """Return why no row is fitted again; empty if they are to be."""
    if not fit.record.origin.of_posterior:
        return "only what was drawn here can be fitted again"
    if not verdict.sound:
        return "the verdict on the draws is not clean"
    if len(bad) > MOST_REFITS:
        return f"more than {MOST_REFITS} rows would take as many fits"
    return ""


def _has_rows(draws: Draws, name: str) -> bool:
    part = next(one for one in draws.binding.program.outcomes if one.name == name)
    return bool(likelihood_axes(draws.binding, part))
