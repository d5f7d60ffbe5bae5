"""Sweeps of one chain, block by block."""

from __future__ import annotations

import numpy as np

from millwright.subsets.compiling import compiled
from millwright.sweeps.error_sizes import draw_sizes, steady_sizes
from millwright.sweeps.errors_of_series import (
    draw_covariance,
    draw_gaps,
    draw_leans,
    errors_left,
)
from millwright.sweeps.paths import draw_path
from millwright.sweeps.problem import Kept, Problem, State, any_moves, fill_gaps
from millwright.sweeps.steps import draw_steps, draw_stretches, redraw_steps

__all__ = ["standing_still", "sweep"]


@compiled
def sweep(
    problem: Problem,
    state: State,
    kept: Kept,
    begin: int,
    count: int,
    thin: int,
    generator: np.random.Generator,
    errors_drift: bool | None,
) -> None:
    """Make `count` draws of `thin` sweeps each, and keep them from place `begin` on.

    Parameters
    ----------
    begin
        Below 0 nothing is kept: warm-up.
    errors_drift
        None, rather than False, leaves out at compilation what constant errors do not need.
    """
    drifts = any_moves(problem.step_scale)
    still = np.zeros(0)
    for draw in range(count):
        for _ in range(thin):
            draw_stretches(
                state.path,
                state.start,
                state.step,
                problem.step_freedom,
                generator,
                state.stretch,
            )
            draw_path(
                state.outcomes,
                state.regressors,
                problem.start_mean,
                problem.start_variance,
                state.step,
                state.stretch,
                state.rows,
                state.sizes,
                generator,
                state.path,
                state.start,
            )
            if drifts:
                draw_steps(
                    state.outcomes,
                    state.regressors,
                    problem.start_mean,
                    problem.start_variance,
                    problem.step_scale,
                    state.rows,
                    state.sizes,
                    generator,
                    state.path,
                    state.start,
                    state.step,
                    still,
                )
                redraw_steps(
                    state.path,
                    state.start,
                    problem.step_scale,
                    state.stretch,
                    generator,
                    state.step,
                )
            left = errors_left(state.outcomes, state.regressors, state.path)
            if errors_drift is None:
                draw_covariance(
                    left, problem.degrees, problem.scatter, generator, state.rows, state.sizes
                )
            else:
                draw_leans(left, state.sizes, problem.lean_scale, generator, state.rows)
                draw_sizes(
                    left @ state.rows.T,
                    problem.size_start_mean,
                    problem.size_start_variance,
                    problem.size_scale,
                    generator,
                    state.sizes,
                    state.log_sizes,
                    state.size_start,
                    state.size_step,
                )
            if len(problem.gap_time) > 0:
                draw_gaps(
                    problem.lags,
                    problem.middle,
                    problem.gap_time,
                    problem.gap_series,
                    state.path,
                    state.rows,
                    state.sizes,
                    generator,
                    state.outcomes,
                    state.regressors,
                )
        if begin >= 0:
            _keep(problem, state, begin + draw, kept)


@compiled
def _keep(problem: Problem, state: State, at: int, kept: Kept) -> None:
    # Loops in place of slices, which take far longer to compile.
    times, count = state.path.shape
    for a in range(count):
        for t in range(times):
            kept.path[at, t, a] = state.path[t, a]
        kept.start[at, a] = state.start[a]
        kept.step[at, a] = state.step[a]
    for i in range(len(state.rows)):
        kept.size_start[at, i] = state.size_start[i]
        kept.size_step[at, i] = state.size_step[i]
        for j in range(len(state.rows)):
            kept.rows[at, i, j] = state.rows[i, j]
        for t in range(len(state.sizes)):
            kept.sizes[at, t, i] = state.sizes[t, i]
        for t in range(len(state.log_sizes)):
            kept.log_sizes[at, t, i] = state.log_sizes[t, i]
    for gap in range(len(problem.gap_time)):
        kept.gaps[at, gap] = state.outcomes[problem.gap_time[gap], problem.gap_series[gap]]


@compiled
def standing_still(problem: Problem, kept: Kept, generator: np.random.Generator) -> np.ndarray:
    """Return log densities of sds of 0 given all else, over those of the prior.

    Returns
    -------
    (draws, coefficients + n), the last for the errors' log sds: the mean of their exponentials
    over draws is the Bayes factor for what never moves (Dickey 1971); 0 where it cannot move.
    """
    draws, count = kept.step.shape
    outcomes, regressors = problem.outcomes.copy(), problem.regressors.copy()
    series = outcomes.shape[1]
    found = np.zeros((draws, count + series))
    # Arrays of their own: a part of `found` would be another type, compiled again.
    still, steady = np.zeros(count), np.zeros(series)
    for draw in range(draws):
        fill_gaps(problem, kept.gaps[draw], outcomes, regressors)
        if any_moves(problem.size_scale):
            left = errors_left(outcomes, regressors, kept.path[draw])
            steady_sizes(
                left @ kept.rows[draw].T,
                problem.size_scale,
                kept.log_sizes[draw],
                kept.size_start[draw],
                kept.size_step[draw],
                steady,
            )
            for k in range(series):
                found[draw, count + k] = steady[k]
        if any_moves(problem.step_scale):
            draw_steps(
                outcomes,
                regressors,
                problem.start_mean,
                problem.start_variance,
                problem.step_scale,
                kept.rows[draw],
                kept.sizes[draw],
                generator,
                kept.path[draw].copy(),
                kept.start[draw].copy(),
                kept.step[draw].copy(),
                still,
            )
            for a in range(count):
                found[draw, a] = still[a]
    return found
