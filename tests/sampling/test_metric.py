"""The metric turns dense where the warm-up shows strong correlations, and only there."""

import json
import unittest
from dataclasses import replace
from threading import Event

import numpy as np

import millwright as mw
from millwright.errors import ArgumentError
from millwright.fitting.job import job_of
from millwright.sampling.gradient_metric import scale_by_gradients
from millwright.sampling.warmup import dense_scale, wants_dense
from tests.fits import assert_mean_near, straight


def collinear():
    """Three columns that are almost one: the posterior is normal and known exactly."""
    generator = np.random.default_rng(1)
    columns = generator.standard_normal((60, 3))
    columns[:, 1:] = columns[:, :1] + 0.1 * columns[:, 1:]
    y = columns.sum(axis=1) + generator.standard_normal(60)
    model = mw.Model(priors={"b": "normal(0, 3) per X"}, likelihood={"y": "normal(X @ b, 1)"})
    precision = np.eye(3) / 9 + columns.T @ columns
    return model, {"X": columns, "y": y}, np.linalg.solve(precision, columns.T @ y)


def turned(dimension, ratio):
    """A covariance whose standard deviations lie `ratio` apart along directions of no column."""
    turn, _ = np.linalg.qr(np.random.default_rng(7).standard_normal((dimension, dimension)))
    return (turn * np.geomspace(1 / ratio, 1, dimension)) @ turn.T


class Choice(unittest.TestCase):
    def metrics(self, posterior):
        return {chain["metric"] for chain in posterior.record.chains}

    def test_collinear_columns_get_a_dense_metric_and_the_exact_answer(self):
        model, data, mean = collinear()
        posterior = model.fit(data, seed=2, progress=False)
        self.assertEqual(self.metrics(posterior), {"dense"})
        draws = posterior.draws.get("b")
        for at in range(3):
            assert_mean_near(self, draws[..., at], mean[at])
        plain = model.fit(data, seed=2, metric="diagonal", progress=False)
        self.assertEqual(self.metrics(plain), {"diagonal"})
        steps = [fit.fit.statistics["evaluations"].mean() for fit in (posterior, plain)]
        self.assertLess(steps[0], steps[1] / 2)

    def test_mild_correlation_keeps_the_diagonal(self):
        self.assertEqual(self.metrics(straight()), {"diagonal"})

    def test_crossed_groups_converge(self):
        generator = np.random.default_rng(3)
        stone, week = generator.integers(0, 15, 1500), generator.integers(0, 10, 1500)
        by = generator.standard_normal(15)[stone] + generator.standard_normal(10)[week]
        model = mw.Model(
            priors={
                "s": "half_normal(2)",
                "t": "half_normal(2)",
                "a": "normal(0, s) per stone",
                "b": "normal(0, t) per week",
            },
            likelihood={"y": "normal(a[stone] + b[week], 1)"},
        )
        table = {"stone": stone, "week": week, "y": by + generator.standard_normal(1500)}
        posterior = model.fit(table, seed=1, progress=False)
        self.assertEqual(self.metrics(posterior), {"dense"})
        self.assertTrue(posterior.verdict.good, str(posterior.verdict))

    def test_same_draws_whatever_the_workers(self):
        model, data, _ = collinear()
        fits = [model.fit(data, seed=4, draws=50, workers=n, progress=False) for n in (1, 2)]
        np.testing.assert_array_equal(*(fit["b"].values for fit in fits))

    def test_unknown_metric(self):
        model, data, _ = collinear()
        with self.assertRaisesRegex(ArgumentError, "automatic, diagonal, dense"):
            model.fit(data, metric="round", progress=False)


class AtThePeak(unittest.TestCase):
    def test_the_curvature_there_spares_most_of_the_warmup(self):
        model, data, _ = collinear()
        for metric, fewest, most in (("automatic", 3, 9), ("diagonal", 15, 1000)):
            fit = model.fit(data, seed=2, metric=metric, progress=False)
            steps = [chain["warmup_steps"] / 1000 for chain in fit.record.chains]
            self.assertGreater(min(steps), fewest)
            self.assertLess(max(steps), most)

    def test_scales_alone_where_little_is_correlated(self):
        model = mw.Model(
            priors={"level": "normal(0, 1000)", "spread": "half_normal(1000)"},
            likelihood={"y": "normal(level, spread)"},
        )
        y = 50 + 0.1 * np.random.default_rng(1).standard_normal(40)
        fit = model.fit({"y": y}, seed=1, progress=False)
        scale = np.array(fit.record.modes["scale"])
        np.testing.assert_allclose(scale, [0.1 / np.sqrt(40), 1 / np.sqrt(80)], rtol=0.25)
        self.assertLess(max(chain["warmup_steps"] for chain in fit.record.chains), 9000)

    def test_a_chain_of_a_fit_that_goes_on_takes_it_too(self):
        model, data, _ = collinear()
        fit = model.fit(data, seed=2, draws=100, progress=False)
        again = replace(fit.record, modes=json.loads(json.dumps(fit.record.modes)))
        sampler = job_of(again, fit.draws.binding).sampler()
        state = sampler.start(1)
        self.assertFalse(state.arrived)
        while state.done < 75:
            state, _ = sampler.advance(state, 0.0, Event())
        self.assertTrue(state.arrived)
        np.testing.assert_array_equal(state.scale, fit.record.modes["scale"])
        self.assertEqual(state.scale.shape, (3, 3))
        np.testing.assert_allclose(state.deviations**2, np.diag(state.scale @ state.scale.T))


class ManyUnknowns(unittest.TestCase):
    def test_gradients_shorten_the_warmup_and_leave_the_answer_exact(self):
        covariance = turned(40, 1e4)
        precision = np.linalg.inv(covariance)
        target = mw.Target(
            lambda x: -0.5 * x @ precision @ x, {"x": "flat() per at"}, labels={"at": [*range(40)]}
        )
        settings = {"seed": 1, "draws": 200, "warmup": 300, "progress": False}
        fit, plain = (target.fit(metric=one, **settings) for one in ("automatic", "diagonal"))
        self.assertEqual({chain["metric"] for chain in fit.record.chains}, {"dense"})
        warm = [
            sum(chain["warmup_steps"] for chain in each.record.chains) for each in (fit, plain)
        ]
        self.assertLess(warm[0], warm[1] / 3)
        draws = fit.draws.get("x")
        for at in (0, 20):
            assert_mean_near(self, draws[..., at], 0.0)
            assert_mean_near(self, draws[..., at] ** 2, covariance[at, at])
        # Blocks of other lengths must learn the same metric.
        short = {**settings, "draws": 20}
        ones = [target.fit(workers=n, **short).draws.get("x") for n in (1, 2)]
        np.testing.assert_array_equal(*ones)

    def test_half_as_many_draws_as_dimensions_say_most(self):
        covariance = turned(60, 1e4)
        generator = np.random.default_rng(8)
        draws = generator.multivariate_normal(np.zeros(60), covariance, 40)
        gradients = -np.linalg.solve(covariance, draws.T).T
        factor = scale_by_gradients(draws, gradients, draws.std(axis=0), 100.0)
        left = np.linalg.solve(factor, np.linalg.solve(factor, covariance).T)
        self.assertLess(np.linalg.cond(left), 1e4 / 30)

    def test_no_metric_where_none_would_help(self):
        generator = np.random.default_rng(9)
        even = generator.standard_normal((50, 60))
        heavy = generator.standard_t(3, (50, 60))
        skewed = np.log(generator.gamma(0.1, size=(50, 60)))
        wide = generator.normal(0, 2, (50, 1))
        funnel = np.hstack([wide, np.exp(wide / 2) * generator.standard_normal((50, 59))])
        rest = funnel[:, 1:]
        slopes = -wide / 4 - 59 / 2 + 0.5 * (rest**2).sum(axis=1, keepdims=True) * np.exp(-wide)
        for name, draws, gradients in (
            ("even", even, -even),
            ("heavy", heavy, -4 * heavy / (3 + heavy**2)),
            ("skewed", skewed, 0.1 - np.exp(skewed)),
            ("funnel", funnel, np.hstack([slopes, -rest * np.exp(-wide)])),
            ("stuck", np.ones((50, 60)), -np.ones((50, 60))),
            ("flat", even, np.zeros((50, 60))),
            ("beyond numbers", even, -1e200 * even),
            ("steep in one", even, -even * 10.0 ** np.linspace(-300, 300, 60)),
        ):
            with self.subTest(name):
                sd = np.maximum(draws.std(axis=0), 1e-3)
                self.assertIsNone(scale_by_gradients(draws, gradients, sd, 100.0))


class Estimates(unittest.TestCase):
    def test_factor_reproduces_the_covariance_of_many_draws(self):
        covariance = np.array([[4.0, 1.9], [1.9, 1.0]])
        draws = np.random.default_rng(5).multivariate_normal([0, 0], covariance, 20_000)
        factor = dense_scale(draws, draws.std(axis=0))
        np.testing.assert_allclose(factor @ factor.T, covariance, rtol=0.05)
        # A correlation of 0.95 costs little, one of 0.995 much.
        self.assertFalse(wants_dense(draws, draws.std(axis=0)))
        covariance[0, 1] = covariance[1, 0] = 1.99
        draws = np.random.default_rng(5).multivariate_normal([0, 0], covariance, 500)
        self.assertTrue(wants_dense(draws, draws.std(axis=0)))

    def test_draws_far_beyond_the_scales_have_a_factor(self):
        # A wide prior's draws, when the scales have not caught up with them yet.
        draws = np.random.default_rng(8).standard_normal((80, 3)) * [1.0, 1e9, 1e180]
        factor = dense_scale(draws, np.ones(3))
        self.assertTrue(np.isfinite(factor).all())
        self.assertGreater(np.linalg.eigvalsh(factor @ factor.T)[0], 0)
        self.assertTrue(wants_dense(draws, np.ones(3)))

    def test_few_draws_or_one_unknown_stay_diagonal(self):
        draws = np.random.default_rng(6).standard_normal((50, 2))
        draws[:, 1] = draws[:, 0]
        self.assertFalse(wants_dense(draws, draws.std(axis=0)))
        self.assertFalse(wants_dense(np.ones((500, 1)), np.ones(1)))


if __name__ == "__main__":
    unittest.main()
