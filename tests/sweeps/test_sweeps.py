"""Sweeps: paths against dense normal algebra, whole chains against the joint distribution."""

import functools
import unittest

import numpy as np
from scipy import stats

from millwright.diagnostics.convergence import mean_error
from millwright.subsets.compiling import compiled
from millwright.sweeps.chain import sweep
from millwright.sweeps.errors_of_series import draw_covariance, draw_gaps
from millwright.sweeps.paths import draw_path
from millwright.sweeps.problem import Problem, begun, room
from millwright.sweeps.run import Plan, swept

TIMES, SERIES, LAGS = 6, 2, 1
M = 1 + SERIES * LAGS
COUNT = SERIES * M
MIDDLE = np.array([0.7, -0.4])


def problem(gaps=True, drifts=True, seed=0, errors_drift=False):
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
        step_freedom=np.where(np.arange(COUNT) == 1, 9.0 if errors_drift else np.inf, np.inf),
        degrees=8.0,
        scatter=np.array([[4.0, 1.0], [1.0, 3.0]]),
        size_scale=np.full(SERIES, 0.3 if errors_drift else 0.0),
        size_start_mean=np.array([-0.2, 0.1]),
        size_start_variance=np.full(SERIES, 0.2),
        lean_scale=np.full((SERIES, SERIES), 0.6),
    )


def apart(errors):
    """What makes errors with this covariance independent, and their sds then."""
    root = np.linalg.cholesky(errors)
    sizes = np.diag(root)
    return np.ascontiguousarray(np.linalg.inv(root / sizes)), sizes[None].copy()


def together(rows, sizes):
    """The covariance of errors."""
    unit = np.linalg.inv(rows)
    return unit * sizes**2 @ unit.T


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
                *(step, np.ones((TIMES, COUNT)), *apart(errors), generator, path, start),
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
        left = made.outcomes - made.regressors @ made.start_mean.reshape(SERIES, M).T
        rows, sizes = np.eye(SERIES), np.ones((1, SERIES))
        total = made.scatter + left.T @ left
        found = np.empty((20_000, SERIES, SERIES))
        for at in range(len(found)):
            draw_covariance(left, made.degrees, made.scatter, generator, rows, sizes)
            found[at] = together(rows, sizes[0])
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
                *(LAGS, MIDDLE, made.gap_time, made.gap_series, path, *apart(errors)),
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


@compiled
def read_again(path, sizes, unit, first, generator, outcomes, regressors):
    """Write readings drawn from the model, each time with those before it as regressors."""
    error, row = np.empty(SERIES), first.copy()
    for t in range(TIMES):
        for k in range(SERIES):
            error[k] = sizes[min(t, len(sizes) - 1), k] * generator.standard_normal()
        for r in range(M):
            regressors[t, r] = row[r]
        for j in range(SERIES):
            value = 0.0
            for r in range(M):
                value += path[t, j * M + r] * row[r]
            for k in range(SERIES):
                value += unit[j, k] * error[k]
            outcomes[t, j] = value
        for j in range(SERIES):
            row[1 + j] = outcomes[t, j] - MIDDLE[j]


@functools.cache
def numbers_of(errors_drift, draws=12_000):
    """Draws of unknowns when readings and unknowns are drawn in turn (Geweke 2004)."""
    made, generator = problem(errors_drift=errors_drift), np.random.default_rng(8)
    state, kept = begun(made, generator), room(made, 1)
    first = made.regressors[0].copy()
    rows = []
    for _ in range(draws):
        unit = np.linalg.inv(state.rows)
        read_again(
            state.path,
            state.sizes,
            unit,
            first,
            generator,
            state.outcomes,
            state.regressors,
        )
        sweep(made, state, kept, 0, 1, 1, generator, errors_drift or None)
        common = kept.start[0], kept.step[0], kept.path[0, -1]
        if errors_drift:
            sizes = np.log(kept.sizes[0, -1])
            errors = kept.rows[0][1, :1], kept.size_start[0], kept.size_step[0], sizes
        else:
            errors = (_summed(together(kept.rows[0], kept.sizes[0, 0])),)
        rows.append(np.concatenate([*common, *errors]))
    return np.array(rows)


def _summed(covariance):
    spread = np.sqrt(np.diag(covariance))
    return np.append(np.log(spread), covariance[0, 1] / spread.prod())


def walked(make, mean, variance, scale, count):
    """Prior draws of starts, sds of steps, and where walks end."""
    start = mean + np.sqrt(variance) * make.normal(size=(count, len(mean)))
    step = scale * np.abs(make.normal(size=(count, len(mean))))
    return start, step, start + step * np.sqrt(TIMES) * make.normal(size=(count, len(mean)))


class Joint(unittest.TestCase):
    def test_chains_leave_the_joint_distribution_of_unknowns_and_readings(self):
        made, make = problem(), np.random.default_rng(1)
        count = 20_000
        own = walked(make, made.start_mean, made.start_variance, made.step_scale, count)
        errors = stats.invwishart(df=made.degrees, scale=made.scatter).rvs(count, random_state=3)
        prior = np.concatenate([*own, [_summed(one) for one in errors]], axis=1)
        self.same(prior, numbers_of(False))

    def test_so_do_chains_whose_errors_drift(self):
        made, make = problem(errors_drift=True), np.random.default_rng(1)
        count = 20_000
        start, step, last = walked(
            make, made.start_mean, made.start_variance, made.step_scale, count
        )
        # Its second coefficient has Student-t steps.
        last[:, 1] = start[:, 1] + step[:, 1] * make.standard_t(9, (count, TIMES)).sum(axis=1)
        own = start, step, last
        lean = made.lean_scale[1, 0] * make.normal(size=(count, 1))
        sizes = walked(
            make, made.size_start_mean, made.size_start_variance, made.size_scale, count
        )
        self.same(np.concatenate([*own, lean, *sizes], axis=1), numbers_of(True))

    def same(self, prior, found):
        for power in (1, 2):
            a, b = prior**power, found**power
            error = np.hypot(
                a.std(axis=0) / np.sqrt(len(a)), np.nan_to_num(mean_error(b[None]))
            ).clip(1e-12)
            z = (a.mean(axis=0) - b.mean(axis=0)) / error
            self.assertLess(np.abs(z).max(), 4.2, np.round(z, 1))


class Whole(unittest.TestCase):
    def test_arrays_that_can_only_be_read_give_the_same_and_compile_nothing(self):
        made, plan = problem(), Plan(chains=2, warmup=3, draws=4, thin=1, seed=5)
        first = swept(made, plan, 1, lambda told: None)
        compiled_before = len(sweep.signatures)
        for part in (made.outcomes, made.regressors, made.middle):
            part.flags.writeable = False
        again = swept(made, plan, 1, lambda told: None)
        self.assertEqual(len(sweep.signatures), compiled_before)
        for one, other in zip(first.kept, again.kept, strict=True):
            np.testing.assert_array_equal(one.path, other.path)
            np.testing.assert_array_equal(one.gaps, other.gaps)


if __name__ == "__main__":
    unittest.main()
