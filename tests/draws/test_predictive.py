"""Replications, predictions of new rows, and scores against exact predictive densities."""

import unittest

import numpy as np
from scipy import stats

import millwright as mw
from millwright.errors import ArgumentError, DataError
from tests.fits import carriers, known_scale, straight


class Check(unittest.TestCase):
    def test_good_model_reproduces_its_data(self):
        check = straight().predictive_check()
        shares = check.table()["share of replications above"]
        self.assertTrue(((shares > 0.02) & (shares < 0.98)).all())
        self.assertIn("reproduces the centre", str(check))

    def test_wrong_spread_is_named(self):
        y = np.random.default_rng(0).normal(0, 5, 50)
        model = mw.Model(priors={"level": "normal(0, 5)"}, likelihood={"y": "normal(level, 1)"})
        check = model.fit({"y": y}, draws=200, warmup=200, progress=False).predictive_check()
        self.assertIn("does NOT reproduce the sd of `y`", str(check))

    def test_number_of_replications(self):
        self.assertEqual(
            straight().predictive_check(draws=100).replicated["moisture"].shape[0], 100
        )
        with self.assertRaises(ArgumentError):
            straight().predictive_check(draws=1)


class Predict(unittest.TestCase):
    def test_predictive_distribution_of_a_known_posterior(self):
        posterior, y = known_scale()
        precision = 0.25 + len(y)
        exact = stats.norm(y.sum() / precision, np.sqrt(1 / precision + 1))
        prediction = posterior.predict(rows=3)
        draws = prediction.draws["y"]
        self.assertEqual(draws.shape, (8000, 3))
        self.assertLess(abs(draws.mean() - exact.mean()), 5 * exact.std() / np.sqrt(24_000 / 3))
        truth = np.array([1.0, 2.0, 4.0])
        score = prediction.score(truth).frame.loc["whole posterior"].iloc[0]
        self.assertAlmostEqual(score["log score"], exact.logpdf(truth).mean(), delta=0.01)
        rmse = np.sqrt(np.mean((truth - exact.mean()) ** 2))
        self.assertAlmostEqual(score["root-mean-square error"], rmse, delta=0.02)
        plug = prediction.score(truth).frame.loc["posterior mean only"].iloc[0]
        plain = stats.norm(exact.mean(), 1).logpdf(truth).mean()
        self.assertAlmostEqual(plug["log score"], plain, delta=0.02)

    def test_coverage_of_many_new_rows(self):
        posterior, _ = known_scale()
        truth = np.random.default_rng(9).normal(2.0, 1.0, 400)
        score = posterior.predict(rows=400).score({"y": truth}).frame.iloc[0]
        self.assertAlmostEqual(score["inside 50 % interval"], 0.5, delta=0.11)
        self.assertAlmostEqual(score["inside 95 % interval"], 0.95, delta=0.05)

    def test_table_has_a_row_for_each_new_row(self):
        table = straight().predict({"hours": [1.0, 5.0]}).table(level=0.8)
        self.assertEqual(list(table.index), [("moisture", 1), ("moisture", 2)])
        self.assertGreater(table["mean"].iloc[0], table["mean"].iloc[1])

    def test_counts_are_predicted_as_whole_numbers(self):
        draws = carriers().predict({"carrier": ["Reed"], "sacks": [20]}).draws["torn"]
        self.assertTrue((draws == np.floor(draws)).all() and draws.max() <= 20)

    def test_bad_new_rows(self):
        with self.assertRaisesRegex(DataError, "label set `carrier`: 'Sedge'"):
            carriers().predict({"carrier": ["Sedge"], "sacks": [20]})
        with self.assertRaisesRegex(mw.errors.MillwrightError, "hours"):
            straight().predict({"minutes": [1.0]})
        prediction = straight().predict({"hours": [1.0, 5.0]})
        for truth in ({"moisture": [1.0]}, {"other": [1.0, 2.0]}, [np.nan, 1.0]):
            with self.subTest(truth=truth), self.assertRaises(DataError):
                prediction.score(truth)


if __name__ == "__main__":
    unittest.main()
