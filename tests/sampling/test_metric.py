"""The metric turns dense where the warm-up shows strong correlations, and only there."""

import unittest

import numpy as np

import millwright as mw
from millwright.errors import ArgumentError
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

    def test_few_draws_or_one_unknown_stay_diagonal(self):
        draws = np.random.default_rng(6).standard_normal((50, 2))
        draws[:, 1] = draws[:, 0]
        self.assertFalse(wants_dense(draws, draws.std(axis=0)))
        self.assertFalse(wants_dense(np.ones((500, 1)), np.ones(1)))


if __name__ == "__main__":
    unittest.main()
