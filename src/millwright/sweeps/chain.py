"""Sweeps of one chain, block by block."""

from __future__ import annotations

import numpy as np

from millwright.subsets.compiling import compiled
from millwright.sweeps.errors_of_series import draw_covariance, draw_gaps
from millwright.sweeps.paths import draw_path
from millwright.sweeps.problem import Kept, Problem, State
from millwright.sweeps.steps import draw_steps, redraw_steps

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
) -> None:
    """Make `count` draws of `thin` sweeps each, and keep them from place `begin` on.

    With `begin` below 0 nothing is kept: warm-up.
    """
    drifts = problem.step_scale.max() > 0
    still = np.zeros(len(problem.start_mean))
    for draw in range(count):
        for _ in range(thin):
            draw_path(
                state.outcomes,
                state.regressors,
                problem.start_mean,
                problem.start_variance,
                state.step,
                state.covariance,
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
                    state.covariance,
                    generator,
                    state.path,
                    state.start,
                    state.step,
                    still,
                    False,
                )
                redraw_steps(state.path, state.start, problem.step_scale, generator, state.step)
            draw_covariance(
                state.outcomes,
                state.regressors,
                state.path,
                problem.degrees,
                problem.scatter,
                generator,
                state.covariance,
            )
            if len(problem.gap_time) > 0:
                draw_gaps(
                    problem.lags,
                    problem.middle,
                    problem.gap_time,
                    problem.gap_series,
                    state.path,
                    state.covariance,
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
    for i in range(len(state.covariance)):
        for j in range(len(state.covariance)):
            kept.covariance[at, i, j] = state.covariance[i, j]
    for gap in range(len(problem.gap_time)):
        kept.gaps[at, gap] = state.outcomes[problem.gap_time[gap], problem.gap_series[gap]]


@compiled
def standing_still(problem: Problem, kept: Kept, generator: np.random.Generator) -> np.ndarray:
    """Return log densities of sds of 0 given all else, over those of the prior.

    Returns
    -------
    (draws, coefficients): the mean of their exponentials over draws is the Bayes factor for a
    coefficient that never moves (Dickey 1971); 0 where it cannot move.
    """
    draws, count = kept.step.shape
    found = np.zeros((draws, count))
    outcomes, regressors = problem.outcomes.copy(), problem.regressors.copy()
    series = outcomes.shape[1]
    for draw in range(draws):
        for gap in range(len(problem.gap_time)):
            at, own = problem.gap_time[gap], problem.gap_series[gap]
            outcomes[at, own] = kept.gaps[draw, gap]
            for later in range(1, min(problem.lags, len(outcomes) - 1 - at) + 1):
                past = kept.gaps[draw, gap] - problem.middle[own]
                regressors[at + later, 1 + (later - 1) * series + own] = past
        draw_steps(
            outcomes,
            regressors,
            problem.start_mean,
            problem.start_variance,
            problem.step_scale,
            kept.covariance[draw],
            generator,
            kept.path[draw].copy(),
            kept.start[draw].copy(),
            kept.step[draw].copy(),
            found[draw],
            True,
        )
    return found
