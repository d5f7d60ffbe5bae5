"""Missing values of predictors: unknowns with the column's own distribution."""

import statistics
import tempfile
import unittest

import numpy as np

import millwright as mw
from millwright.errors import DataError, ModelError
from tests.fits import assert_mean_near


class Known(unittest.TestCase):
    """Everything normal and known but the missing values, so that each has an exact answer."""

    @classmethod
    def setUpClass(cls):
        cls.data = {"x": [1.0, np.nan, 3.0, np.nan], "y": [2.1, 3.0, 5.9, -1.0]}
        cls.model = mw.Model(
            priors={"shift": "normal(0, 0.1)"},
            likelihood={"y": "normal(2 * x + shift, 1)", "x": "normal(1, 2)"},
        )
        cls.posterior = cls.model.fit(cls.data, seed=1, draws=2000, progress=False)

    def exact(self):
        """Joint normal of the shift and both missing values."""
        precision = np.diag([1 / 0.01, 0.25, 0.25])
        right = np.array([0.0, 0.25, 0.25])
        for x, y, at in ((1, 2.1, None), (3, 5.9, None), (0, 3.0, 1), (0, -1.0, 2)):
            row = np.zeros(3)
            row[0] = 1.0
            if at:
                row[at] = 2.0
            precision += np.outer(row, row)
            right += row * (y - 2 * x)
        return np.linalg.solve(precision, right)

    def test_each_missing_value_has_the_exact_mean(self):
        values = self.posterior.draws.get("x_missing")
        for at, mean in enumerate(self.exact()[1:]):
            assert_mean_near(self, values[..., at], mean)
        self.assertEqual(list(self.posterior["x_missing"].coords["x_missing"].values), [2, 4])

    def test_counted_in_the_verdict_and_kept_when_stored(self):
        self.assertIn("Missing values of `x` estimated with the model: 2", str(self.posterior))
        with tempfile.TemporaryDirectory() as folder:
            self.posterior.save(folder + "/run")
            self.assertEqual(str(mw.load(folder + "/run")), str(self.posterior))

    def test_checks_look_at_what_was_seen(self):
        check = self.posterior.predictive_check(200)
        np.testing.assert_array_equal(check.observed["x"], [1.0, 3.0])
        rows = self.posterior.leave_one_out().rows
        self.assertEqual([row for name, row in rows if name == "x"], [1, 3])

    def test_gaps_of_new_rows_are_drawn_from_the_distribution_of_the_column(self):
        predicted = self.posterior.predict({"x": [np.nan, 10.0, 0.0]})
        np.testing.assert_allclose(predicted.expected["y"], [2.0, 20.0, 0.0], atol=0.25)
        spread = predicted.draws["y"].std(axis=0)
        np.testing.assert_allclose(spread, np.sqrt([17, 1, 1]), rtol=0.05)
        rest = predicted.draws["y"] - 2 * predicted.draws["x"]
        self.assertAlmostEqual(rest[:, 0].std(), np.sqrt(1.01), delta=0.05)
        # What was seen of both: the column has its own density, `y` that around a drawn one.
        told = predicted.log_densities({"x": [2.0, 10.0, 0.0], "y": [3.0, 20.5, 0.0]})
        normal = statistics.NormalDist
        self.assertAlmostEqual(told["x"][0], np.log(normal(1, 2).pdf(2)), delta=0.001)
        self.assertAlmostEqual(told["y"][0], np.log(normal(2, 17**0.5).pdf(3)), delta=0.05)
        alone = self.posterior.predict(rows=2)
        np.testing.assert_allclose(alone.draws["y"].std(axis=0), np.sqrt([17, 17]), rtol=0.05)


class Unknown(unittest.TestCase):
    def test_with_a_distribution_that_is_estimated_too(self):
        generator = np.random.default_rng(2)
        x = np.exp(0.5 * generator.standard_normal(60))
        y = 1 + 2 * x + 0.3 * generator.standard_normal(60)
        seen = x.copy()
        seen[::6] = np.nan
        model = mw.Model(
            priors={
                "a": "normal(0, 3)",
                "b": "normal(0, 3)",
                "s": "half_normal(1)",
                "m": "normal(0, 1)",
                "t": "half_normal(1)",
            },
            derived={"line": "a + b * x"},
            likelihood={"y": "normal(line, s)", "x": "lognormal(m, t)"},
        )
        posterior = model.fit({"x": seen, "y": y}, seed=1, progress=False)
        found = posterior["x_missing"].stack(all=["chain", "iteration"]).values.T
        self.assertTrue((found > 0).all())
        gap = np.abs(found.mean(axis=0) - x[::6])
        self.assertLess((gap / found.std(axis=0)).max(), 4)
        self.assertTrue(posterior.verdict.good, str(posterior))


class Refused(unittest.TestCase):
    def test_what_cannot_be_an_unknown(self):
        data = {"x": [1.0, np.nan], "y": [0.0, 1.0]}
        counts = mw.Model(
            priors={"a": "normal(0, 1)"},
            likelihood={"y": "normal(a * x, 1)", "x": "poisson(rate=2)"},
        )
        with self.assertRaisesRegex(ModelError, "continuous"):
            counts.bind(data)
        circle = mw.Model(
            priors={"a": "normal(0, 1)"},
            likelihood={"y": "normal(a * x, 1)", "x": "normal(0.5 * x, 1)"},
        )
        with self.assertRaisesRegex(ModelError, "rests on itself"):
            circle.bind(data)
        plain = mw.Model(priors={"a": "normal(0, 1)"}, likelihood={"y": "normal(a * x, 1)"})
        with self.assertRaisesRegex(DataError, "distribution of its own"):
            plain.bind(data)


if __name__ == "__main__":
    unittest.main()
