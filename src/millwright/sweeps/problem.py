"""What a sweep works on: series with their regressors, and priors."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, NamedTuple, TypeVar

import numpy as np

from millwright.subsets.compiling import compiled

__all__ = [
    "Kept",
    "Problem",
    "State",
    "any_moves",
    "begun",
    "fill_gaps",
    "gone_on",
    "room",
    "set_sizes",
    "writable",
]


class Problem(NamedTuple):
    """Series, regressors and priors.

    Each equation has the same regressors; coefficient `j * m + r` is that of regressor r in
    equation j.

    Attributes
    ----------
    lags
        How many; regressors 1 to n lags are the series before, the last time first.
    middle
        From where lagged readings are counted, (n,).
    outcomes
        Readings, (times, n); where missing any number.
    regressors
        (times, m): 1, lagged readings less the middle, other columns.
    gap_time, gap_series
        Where readings are missing, (gaps,).
    start_mean, start_variance
        Of the normal prior of coefficients before the first step, (n m,).
    step_scale
        Of the half-normal prior of the sds of steps, (n m,); 0 for those that never move.
    step_freedom
        Degrees of freedom of Student-t steps, (n m,); infinite for normal ones.
    degrees, scatter
        Of the inverse-Wishart prior of the covariance of errors, where it is constant.
    size_scale
        Of the half-normal prior of the sds of steps of the errors' log sds, (n,); all 0 where the
        covariance is constant.
    size_start_mean, size_start_variance
        Of the normal prior of those log sds before the first step, (n,).
    lean_scale
        Prior sds of the slopes of each error on those before it, (n, n), where sds drift.
    """

    lags: int
    middle: np.ndarray
    outcomes: np.ndarray
    regressors: np.ndarray
    gap_time: np.ndarray
    gap_series: np.ndarray
    start_mean: np.ndarray
    start_variance: np.ndarray
    step_scale: np.ndarray
    step_freedom: np.ndarray
    degrees: float
    scatter: np.ndarray
    size_scale: np.ndarray
    size_start_mean: np.ndarray
    size_start_variance: np.ndarray
    lean_scale: np.ndarray


class State(NamedTuple):
    """Where a chain stands.

    Attributes
    ----------
    path
        Coefficients at each time, (times, n m).
    start
        Before the first step, (n m,).
    step
        Sds of steps, (n m,).
    stretch
        What each step is longer by, (times, n m): 1 of normal steps; drawn first in each sweep.
    rows
        Lower triangular with ones, (n, n): its products with the errors are independent.
    sizes
        Sds of those, (times, n), or (1, n) where they are constant.
    log_sizes
        Their logs, (times, n), where they drift; else (0, n).
    size_start, size_step
        Log sds before the first step, and sds of their steps, (n,), where they drift.
    outcomes, regressors
        As of the problem, with drawn values in gaps.
    """

    path: np.ndarray
    start: np.ndarray
    step: np.ndarray
    stretch: np.ndarray
    rows: np.ndarray
    sizes: np.ndarray
    log_sizes: np.ndarray
    size_start: np.ndarray
    size_step: np.ndarray
    outcomes: np.ndarray
    regressors: np.ndarray


class Kept(NamedTuple):
    """Draws of one chain, each with the draws as its first axis."""

    path: np.ndarray
    start: np.ndarray
    step: np.ndarray
    rows: np.ndarray
    sizes: np.ndarray
    log_sizes: np.ndarray
    size_start: np.ndarray
    size_step: np.ndarray
    gaps: np.ndarray


Parts = TypeVar("Parts", Problem, State, Kept)


def writable(parts: Parts) -> Parts:
    """Return parts whose arrays are contiguous and may be written.

    An array that can only be read, as tables give them, is another type to the compiler: the
    same sweep would be compiled again.
    """
    arrays: dict[str, Any] = {
        name: np.require(part, requirements=["C", "W"])
        for name, part in parts._asdict().items()
        if isinstance(part, np.ndarray)
    }
    return parts._replace(**arrays)


@dataclass(frozen=True)
class _Sizes:
    times: int
    series: int
    coefficients: int
    sizes: int


def _sizes(problem: Problem) -> _Sizes:
    times, series = problem.outcomes.shape
    drifting = any_moves(problem.size_scale)
    return _Sizes(times, series, len(problem.start_mean), times if drifting else 1)


def begun(problem: Problem, generator: np.random.Generator) -> State:
    """Return a starting point: drawn around the prior, errors as wide as the prior has them."""
    size = _sizes(problem)
    width = np.exp(generator.normal(scale=0.5, size=size.series))
    wide = np.diag(problem.scatter) / max(problem.degrees - size.series - 1, 1.0)
    sizes = np.log(width * np.sqrt(wide))[None]
    if size.sizes > 1:
        sizes = problem.size_start_mean + np.log(width)
        moves = generator.normal(size=(size.times, size.series))
        sizes = sizes + 0.5 * problem.size_scale * np.cumsum(moves, axis=0)
    step = problem.step_scale * np.exp(generator.normal(scale=0.5, size=size.coefficients))
    path = np.tile(problem.start_mean, (size.times, 1))
    return State(
        path=path,
        start=problem.start_mean.copy(),
        step=0.5 * step,
        stretch=np.ones((size.times, size.coefficients)),
        rows=np.eye(size.series),
        sizes=np.exp(sizes),
        log_sizes=sizes if size.sizes > 1 else sizes[:0],
        size_start=sizes[0].copy(),
        size_step=0.5 * problem.size_scale,
        outcomes=problem.outcomes.copy(),
        regressors=problem.regressors.copy(),
    )


def gone_on(problem: Problem, kept: Kept, draw: int) -> State:
    """Return where a chain stood at a draw."""
    outcomes, regressors = problem.outcomes.copy(), problem.regressors.copy()
    fill_gaps(problem, kept.gaps[draw], outcomes, regressors)
    sizes = kept.sizes[draw].copy()
    set_sizes(kept.log_sizes[draw].copy(), sizes)
    return State(
        path=kept.path[draw].copy(),
        start=kept.start[draw].copy(),
        step=kept.step[draw].copy(),
        stretch=np.ones(kept.path[draw].shape),
        rows=kept.rows[draw].copy(),
        sizes=sizes,
        log_sizes=kept.log_sizes[draw].copy(),
        size_start=kept.size_start[draw].copy(),
        size_step=kept.size_step[draw].copy(),
        outcomes=outcomes,
        regressors=regressors,
    )


@compiled
def any_moves(step_scale: np.ndarray) -> bool:
    """Whether any sd of steps has a prior above 0."""
    most = 0.0
    for scale in step_scale:
        most = max(most, scale)
    return most > 0


@compiled
def fill_gaps(
    problem: Problem, gaps: np.ndarray, outcomes: np.ndarray, regressors: np.ndarray
) -> None:
    """Write drawn readings where they are missing: as outcomes, and as regressors later."""
    series = outcomes.shape[1]
    for gap in range(len(gaps)):
        at, own = problem.gap_time[gap], problem.gap_series[gap]
        outcomes[at, own] = gaps[gap]
        for later in range(1, min(problem.lags, len(outcomes) - 1 - at) + 1):
            past = gaps[gap] - problem.middle[own]
            regressors[at + later, 1 + (later - 1) * series + own] = past


@compiled
def set_sizes(log_sizes: np.ndarray, sizes: np.ndarray) -> None:
    """Write sds from their logs, by one function everywhere, so that chains go on alike."""
    for t in range(len(log_sizes)):
        for k in range(log_sizes.shape[1]):
            sizes[t, k] = np.exp(log_sizes[t, k])


def room(problem: Problem, draws: int) -> Kept:
    """Return empty arrays for the draws of a chain."""
    size = _sizes(problem)
    return Kept(
        path=np.empty((draws, size.times, size.coefficients)),
        start=np.empty((draws, size.coefficients)),
        step=np.empty((draws, size.coefficients)),
        rows=np.empty((draws, size.series, size.series)),
        sizes=np.empty((draws, size.sizes, size.series)),
        log_sizes=np.empty((draws, size.times if size.sizes > 1 else 0, size.series)),
        size_start=np.empty((draws, size.series)),
        size_step=np.empty((draws, size.series)),
        gaps=np.empty((draws, len(problem.gap_time))),
    )
