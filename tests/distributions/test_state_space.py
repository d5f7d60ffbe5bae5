import unittest

import jax
import jax.numpy as jnp
import numpy as np
from scipy import stats

from millwright.distributions import on_jax, on_numpy
from millwright.distributions.registry import DISTRIBUTIONS
from millwright.errors import ModelError

FAMILY = DISTRIBUTIONS["state_space"]
ROWS, STATES = 9, 2
MATHEMATICS = (on_numpy, on_jax)


def system(**more):
    """A state of two entries, read by loadings, noises and locations that differ by row."""
    generator = np.random.default_rng(2)
    return {
        "transition": np.array([[1.0, 0.7], [-0.1, 0.9]]),
        "loading": generator.normal(size=(ROWS, STATES)),
        "scale": np.array([0.5, 0.3]),
        "noise": generator.uniform(0.3, 1, ROWS),
        "location": generator.normal(size=ROWS),
        **more,
    }


def readings():
    y = np.random.default_rng(3).normal(size=ROWS)
    y[4] = np.nan
    return y


START = {"start": np.array([1.0, 0.5]), "start_scale": np.array([1.0, 0.5])}
TIME = {"time": np.repeat([0.0, 0.5, 1.0], 3)}


def dense(p):
    """How readings hang on the first state, and the mean and covariance of the rest, by rows.

    Rows of one time read one state; the first state, its mean and covariance stand apart.
    """
    _, at = np.unique(p.get("time", np.arange(ROWS)), return_inverse=True)
    moves = [np.linalg.matrix_power(p["transition"], power) for power in range(at.max() + 1)]
    steps = np.diag(p["scale"] ** 2)
    lines = np.array([p["loading"][row] @ moves[at[row]] for row in range(ROWS)])
    cov = np.diag(p["noise"] ** 2)
    for one in range(ROWS):
        for other in range(ROWS):
            for step in range(1, min(at[one], at[other]) + 1):
                here = p["loading"][one] @ moves[at[one] - step]
                cov[one, other] += here @ steps @ moves[at[other] - step].T @ p["loading"][other]
    return lines, np.asarray(p["location"]), cov


def exact_log_density(y, p):
    """By one large normal; an open first state by completing the square."""
    lines, mean, cov = dense(p)
    known = ~np.isnan(y)
    lines, error, cov = lines[known], (y - mean)[known], cov[np.ix_(known, known)]
    if "start" in p:
        wide = cov + lines @ np.diag(p["start_scale"] ** 2) @ lines.T
        return stats.multivariate_normal(lines @ p["start"], wide).logpdf(error)
    precision = lines.T @ np.linalg.solve(cov, lines)
    best = np.linalg.solve(precision, lines.T @ np.linalg.solve(cov, error))
    top = stats.multivariate_normal(lines @ best, cov).logpdf(error)
    return top + np.log(2 * np.pi) - 0.5 * np.linalg.slogdet(precision)[1]


class Density(unittest.TestCase):
    def test_rows_of_one_time_and_open_starts_against_one_large_normal(self):
        for more in ({}, START, TIME, START | TIME):
            p = system(**more)
            want = exact_log_density(readings(), p)
            for m in MATHEMATICS:
                with self.subTest(given=list(more), m=m.__name__):
                    found = FAMILY.log_density(m, m.asarray(readings()), p)
                    self.assertAlmostEqual(float(found), want, places=9)

    def test_many_draws_at_once_are_each_of_its_own(self):
        p = system(**TIME)
        noises = np.stack([p["noise"], 2 * p["noise"]])
        found = FAMILY.log_density(on_numpy, readings(), p | {"noise": noises})
        for value, noise in zip(found, noises, strict=True):
            want = exact_log_density(readings(), p | {"noise": noise})
            self.assertAlmostEqual(value, want, places=9)

    def test_gradients_and_curvatures_agree_with_differences(self):
        y, step = jnp.asarray(readings()), 1e-5
        for more in (START | TIME, TIME):
            fixed = {name: more[name] for name in ("time",) if name in more}
            p = {k: jnp.asarray(v) for k, v in system(**more).items() if k != "time"}

            def value(p, fixed=fixed):
                return FAMILY.log_density(on_jax, y, p | fixed)

            value, slope = jax.jit(value), jax.jit(jax.grad(value))
            bend = jax.jit(
                jax.jacrev(lambda noise, p=p, slope=slope: slope(p | {"noise": noise})["noise"])
            )
            for name, there in slope(p).items():
                move = np.zeros(there.shape)
                move.flat[-1] = step
                up, down = (p | {name: p[name] + sign * move} for sign in (1, -1))
                with self.subTest(given=list(more), name=name):
                    want = (value(up) - value(down)) / (2 * step)
                    self.assertAlmostEqual(float(there.reshape(-1)[-1]), float(want), places=6)
                if name == "noise" and "start" not in more:
                    want = (slope(up)[name] - slope(down)[name]) / (2 * step)
                    np.testing.assert_allclose(bend(p[name])[:, -1], want, atol=1e-6)

    def test_an_open_start_with_next_to_no_noise_loses_nothing(self):
        """Without noise the differences of a level are its steps, and the first says nothing."""
        y = np.array([3.0, 3.4, 2.9, 4.0])
        p = {"transition": np.eye(1), "loading": np.ones((1, 1)), "scale": np.array([0.5])}
        want = stats.norm(0, 0.5).logpdf(np.diff(y)).sum()
        for noise in (1e-7, 1e-11):
            for m in MATHEMATICS:
                found = FAMILY.log_density(m, m.asarray(y), p | {"noise": np.full(4, noise)})
                self.assertAlmostEqual(float(found), want, places=6)

    def test_readings_that_leave_the_first_state_open_have_no_density(self):
        p = system(loading=np.tile([1.0, 1.0], (ROWS, 1)), transition=np.eye(2), location=0.0)
        for y in (readings(), readings()[:1]):
            rows = {name: p[name][: len(y)] for name in ("loading", "noise")}
            for m in MATHEMATICS:
                self.assertTrue(np.isnan(FAMILY.log_density(m, m.asarray(y), p | rows)))
            self.assertTrue(np.isnan(FAMILY.first_state(y, p | rows).root).any())


class Drawing(unittest.TestCase):
    def test_states_are_those_of_the_normal_and_one_a_time(self):
        for more in (TIME, START | TIME):
            p = system(**more)
            draws = FAMILY.draw_states(np.random.default_rng(3), readings(), p, 20_000)
            self.assertEqual(draws.shape, (20_000, ROWS, STATES))
            np.testing.assert_array_equal(draws[:, 0], draws[:, 2])
            known = ~np.isnan(readings())
            lines, mean, cov = dense(p)
            if "start" in p:
                at, around = p["start"], np.diag(p["start_scale"] ** 2)
            else:
                at, around = np.zeros(2), 1e9 * np.eye(2)
            wide = (cov + lines @ around @ lines.T)[np.ix_(known, known)]
            lean = around @ lines[known].T
            error = (readings() - mean - lines @ at)[known]
            want = at + lean @ np.linalg.solve(wide, error)
            first = draws[:, 0]
            mcse = first.std(axis=0) / np.sqrt(len(first))
            self.assertTrue((np.abs(first.mean(axis=0) - want) < 5 * mcse + 1e-5).all())

    def test_readings_ahead_have_the_moments_of_their_draws(self):
        p = system(**TIME)
        longer = {name: np.concatenate([p[name], p[name][:3]]) for name in ("loading", "noise")}
        longer |= {"location": 0.0 * np.ones(ROWS + 3), "time": np.r_[p["time"], 1.0, 1.5, 2.0]}
        found = FAMILY.ahead(np.random.default_rng(1), readings(), p | longer, 3, 20_000)
        np.testing.assert_allclose(found.noises[0], p["noise"][:3])
        outcome = found.paths + found.noises * np.random.default_rng(2).normal(size=(20_000, 3))
        np.testing.assert_allclose(outcome.mean(axis=0), found.means.mean(axis=0), atol=0.12)
        within = found.variances.mean(axis=0) + found.means.var(axis=0)
        np.testing.assert_allclose(outcome.var(axis=0), within, rtol=0.05)

    def test_readings_drawn_have_the_moments_of_one_large_normal(self):
        for more in (START, START | TIME):
            p = system(**more)
            lines, mean, cov = dense(p)
            wide = cov + lines @ np.diag(p["start_scale"] ** 2) @ lines.T
            drawn = FAMILY.draw(np.random.default_rng(1), (50_000, ROWS), p)
            off = drawn.mean(axis=0) - mean - lines @ p["start"]
            self.assertTrue((np.abs(off) < 4.5 * np.sqrt(np.diag(wide) / 50_000)).all())
            sds = np.sqrt(np.diag(wide))
            np.testing.assert_allclose(
                np.cov(drawn.T) / np.outer(sds, sds), wide / np.outer(sds, sds), atol=0.03
            )

    def test_nothing_is_drawn_from_an_open_start(self):
        with self.assertRaisesRegex(ModelError, "may be anything"):
            FAMILY.draw(np.random.default_rng(1), (5, ROWS), system())


if __name__ == "__main__":
    unittest.main()
