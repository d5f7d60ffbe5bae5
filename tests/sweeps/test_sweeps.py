"""Sweeps: paths against dense normal algebra, whole chains against the joint distribution."""

import functools
import unittest

import numpy as np
from scipy import stats

from millwright.diagnostics.convergence import mean_error
from millwright.sweeps.chain import sweep
from millwright.sweeps.errors_of_series import draw_covariance, draw_gaps
from millwright.sweeps.paths import draw_path
from millwright.sweeps.problem import Problem, begun, room

TIMES, SERIES, LAGS = 6, 2, 1
M = 1 + SERIES * LAGS
COUNT = SERIES * M
MIDDLE = np.array([0.7, -0.4])


def problem(gaps=True, drifts=True, seed=0):
    make = np.random.default_rng(seed)
    values = make.normal(size=(TIMES + 1, SERIES))
    scale = np.full(COUNT, 0.2) if drifts else np.zeros(COUNT)
    scale[-1] = 0.0
    return Problem(
        lags=LAGS,
        middle=MIDDLE,
        outcomes=values[1:].copy(),
        regressors=np.column_stack([np.ones(TIMES), values[:-1] - MIDDLE]),
        gap_time=np.array([2, 5] if gaps else [], dtype=np.int64),
        gap_series=np.array([1, 0] if gaps else [], dtype=np.int64),
        start_mean=make.normal(scale=0.3, size=COUNT),
        start_variance=np.full(COUNT, 0.1),
        step_scale=scale,
        degrees=8.0,
        scatter=np.array([[4.0, 1.0], [1.0, 3.0]]),
    )


def dense(made, step, errors):
    """Mean and covariance of starts and paths given readings, by one normal over everything."""
    kernel = 1.0 + np.minimum.outer(np.arange(TIMES), np.arange(TIMES))
    kernel = np.pad(kernel, ((1, 0), (1, 0)))
    prior = np.zeros((COUNT * (TIMES + 1),) * 2)
    design = np.zeros((TIMES * SERIES, COUNT * (TIMES + 1)))
    for a in range(COUNT):
        at = a * (TIMES + 1) + np.arange(TIMES + 1)
        prior[np.ix_(at, at)] = made.start_variance[a] + step[a] ** 2 * kernel
        for t in range(TIMES):
            design[t * SERIES + a // M, at[t + 1]] = made.regressors[t, a % M]
    mean = np.repeat(made.start_mean, TIMES + 1)
    readings = design @ prior @ design.T + np.kron(np.eye(TIMES), errors)
    gain = prior @ design.T @ np.linalg.inv(readings)
    left = made.outcomes.reshape(-1) - design @ mean
    return mean + gain @ left, prior - gain @ design @ prior


class Paths(unittest.TestCase):
    def test_draws_have_the_moments_of_dense_algebra(self):
        made = problem()
        step = np.array([0.3, 0.1, 0.0, 0.2, 0.5, 0.0])
        errors = np.array([[0.5, 0.3], [0.3, 0.8]])
        generator = np.random.default_rng(4)
        path, start = np.empty((TIMES, COUNT)), np.empty(COUNT)
        draws = []
        for _ in range(20_000):
            draw_path(
                *(made.outcomes, made.regressors, made.start_mean, made.start_variance),
                *(step, errors, generator, path, start),
            )
            draws.append(np.concatenate([start[None], path]).T.reshape(-1))
        found = np.array(draws)
        mean, covariance = dense(made, step, errors)
        spread = np.sqrt(np.diag(covariance))
        self.assertLess(np.abs((found.mean(axis=0) - mean) / spread).max() * 20_000**0.5, 4.5)
        scaled = (np.cov(found.T) - covariance) / np.outer(spread, spread)
        self.assertLess(np.abs(scaled).max() * 20_000**0.5, 6.5)

    def test_the_covariance_is_inverse_wishart(self):
        made = problem()
        generator = np.random.default_rng(2)
        path = np.tile(made.start_mean, (TIMES, 1))
        left = made.outcomes - made.regressors @ made.start_mean.reshape(SERIES, M).T
        total = made.scatter + left.T @ left
        found = np.empty((20_000, SERIES, SERIES))
        for at in range(len(found)):
            draw_covariance(
                *(made.outcomes, made.regressors, path, made.degrees, made.scatter),
                *(generator, found[at]),
            )
        exact = stats.invwishart(df=made.degrees + TIMES, scale=total)
        other = exact.rvs(20_000, random_state=1)
        for i, j in ((0, 0), (0, 1), (1, 1)):
            chance = stats.ks_2samp(found[:, i, j], other[:, i, j]).pvalue
            self.assertGreater(chance, 1e-3)

    def test_missing_readings_have_their_conditional(self):
        made = problem()
        errors = np.array([[0.5, 0.3], [0.3, 0.8]])
        path = np.random.default_rng(3).normal(scale=0.5, size=(TIMES, COUNT))
        generator = np.random.default_rng(5)
        outcomes, regressors = made.outcomes.copy(), made.regressors.copy()
        found = np.empty((20_000, 2))
        for at in range(len(found)):
            draw_gaps(
                *(LAGS, MIDDLE, made.gap_time, made.gap_series, path, errors),
                *(generator, outcomes, regressors),
            )
            found[at] = outcomes[2, 1], outcomes[5, 0]
        self.assertTrue(np.allclose(regressors[1:, 1:], outcomes[:-1] - MIDDLE))
        # The joint normal of all readings given the first row, by its precision.
        inverse = np.linalg.inv(errors)
        precision = np.zeros((TIMES * SERIES,) * 2)
        pull = np.zeros(TIMES * SERIES)
        for t in range(TIMES):
            slopes = path[t].reshape(SERIES, M)
            rows = np.zeros((SERIES, TIMES * SERIES))
            rows[:, t * SERIES : (t + 1) * SERIES] = np.eye(SERIES)
            level = slopes[:, 0].copy()
            if t:
                rows[:, (t - 1) * SERIES : t * SERIES] = -slopes[:, 1:]
                level -= slopes[:, 1:] @ MIDDLE
            else:
                level += slopes[:, 1:] @ made.regressors[0, 1:]
            precision += rows.T @ inverse @ rows
            pull += rows.T @ inverse @ level
        gaps = [2 * SERIES + 1, 5 * SERIES]
        rest = [at for at in range(TIMES * SERIES) if at not in gaps]
        known = made.outcomes.reshape(-1)[rest]
        covariance = np.linalg.inv(precision[np.ix_(gaps, gaps)])
        mean = covariance @ (pull[gaps] - precision[np.ix_(gaps, rest)] @ known)
        error = np.sqrt(np.diag(covariance) / 20_000)
        self.assertLess(np.abs((found.mean(axis=0) - mean) / error).max(), 5)
        self.assertTrue(np.allclose(np.cov(found.T), covariance, rtol=0.05, atol=0.02))


@functools.cache
def numbers_of(draws=25_000):
    """Draws of unknowns when readings and unknowns are drawn in turn (Geweke 2004)."""
    made, generator = problem(), np.random.default_rng(8)
    state, kept = begun(made, generator), room(made, 1)
    first = made.regressors[0].copy()
    rows = np.empty((draws, 3 * COUNT + 3))
    for at in range(draws):
        root = np.linalg.cholesky(state.covariance)
        row = first
        for t in range(TIMES):
            state.regressors[t] = row
            slopes = state.path[t].reshape(SERIES, M)
            state.outcomes[t] = slopes @ row + root @ generator.normal(size=SERIES)
            row = np.concatenate([[1.0], state.outcomes[t] - MIDDLE])
        sweep(made, state, kept, 0, 1, 1, generator)
        rows[at] = _row(kept.start[0], kept.step[0], kept.path[0, -1], kept.covariance[0])
    return rows


def _row(start, step, last, covariance):
    spread = np.sqrt(np.diag(covariance))
    tie = covariance[0, 1] / spread.prod()
    return np.concatenate([start, step, last, np.log(spread), [tie]])


class Joint(unittest.TestCase):
    def test_chains_leave_the_joint_distribution_of_unknowns_and_readings(self):
        made, make = problem(), np.random.default_rng(1)
        count = 50_000
        start = made.start_mean + np.sqrt(made.start_variance) * make.normal(size=(count, COUNT))
        step = made.step_scale * np.abs(make.normal(size=(count, COUNT)))
        last = start + step * np.sqrt(TIMES) * make.normal(size=(count, COUNT))
        errors = stats.invwishart(df=made.degrees, scale=made.scatter).rvs(count, random_state=3)
        prior = np.array([_row(*one) for one in zip(start, step, last, errors, strict=True)])
        found = numbers_of()
        for power in (1, 2):
            a, b = prior**power, found**power
            error = np.hypot(
                a.std(axis=0) / np.sqrt(count), np.nan_to_num(mean_error(b[None]))
            ).clip(1e-12)
            z = (a.mean(axis=0) - b.mean(axis=0)) / error
            self.assertLess(np.abs(z).max(), 4.2, np.round(z, 1))


if __name__ == "__main__":
    unittest.main()
