"""Replications, predictions of new rows, and scores against exact predictive densities."""

import unittest

import numpy as np
from scipy import stats

import millwright as mw
from millwright.errors import ArgumentError, DataError
from tests.fits import known_scale, straight, yeasts


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

    def test_statistics_of_the_users_own(self):
        check = straight().predictive_check(statistics={"range": np.ptp})
        row = check.table().loc[("moisture", "range")]
        self.assertAlmostEqual(row["observed"], np.ptp(check.observed["moisture"]))
        self.assertTrue(0.02 < row["share of replications above"] < 0.98)
        bad = straight().predictive_check(statistics={"odd": lambda x: "text"})
        with self.assertRaisesRegex(ArgumentError, "statistic `odd` failed"):
            bad.table()

    def test_residuals(self):
        table = straight().predictive_check().residuals()
        self.assertEqual(list(table.index), list(range(1, 21)))
        np.testing.assert_allclose(table["residual"], table["observed"] - table["expected"])
        self.assertLess(table["residual, sds"].abs().max(), 4)
        with self.assertRaises(ArgumentError):
            straight().predictive_check().residuals("x")

    def test_observations_in_their_left_out_predictions(self):
        posterior, y = known_scale()
        found = posterior.leave_one_out_pit().loc["y"].iloc[:, 0].to_numpy()
        precision = 0.25 + len(y) - 1
        exact = [
            stats.norm.cdf(y[at], np.delete(y, at).sum() / precision, np.sqrt(1 + 1 / precision))
            for at in range(len(y))
        ]
        self.assertLess(np.abs(found - exact).max(), 5 * 0.5 / np.sqrt(8000))

    def test_simulated_data_in_words(self):
        model = mw.Model(priors={"x": "normal(0, 3)"}, likelihood={"y": "normal(x, 4)"})
        fake = model.simulate(rows=10, draws=4000, seed=1)
        table = fake.table()
        # The mean of ten has variance 9 + 16 / 10.
        want = stats.norm(0, np.sqrt(9 + 1.6)).ppf([0.05, 0.25, 0.5, 0.75, 0.95])
        np.testing.assert_allclose(table.loc[("y", "mean")], want, atol=0.35)
        self.assertIn("90 % of the simulated values of `y` lie between", str(fake))


class NewLabels(unittest.TestCase):
    def test_effects_of_new_labels_come_from_the_distribution_of_groups(self):
        stone = np.repeat(["a", "b", "c", "d"], 200)
        truth = dict(zip("abcd", (-1.0, 0.0, 1.0, 2.0), strict=True))
        noise = np.random.default_rng(0).normal(0, 0.5, 800)
        model = mw.Model(
            priors={"effect": "normal(0.5, 1.5) per stone"},
            likelihood={"y": "normal(effect[stone], 0.5)"},
        )
        data = {"stone": stone, "y": np.array([truth[s] for s in stone]) + noise}
        fit = model.fit(data, seed=1, progress=False)
        new = {"stone": ["d", "new", "newer", "new"]}
        with self.assertRaisesRegex(DataError, "new_labels='draw'"):
            fit.predict(new)
        draws = fit.predict(new, new_labels="draw").draws["y"]
        self.assertAlmostEqual(draws[:, 0].mean(), 2.0, delta=0.15)
        # normal(0.5, 1.5) with noise 0.5: known mean and sd, two levels apart.
        error = np.hypot(1.5, 0.5) / np.sqrt(4000)
        self.assertLess(abs(draws[:, 1].mean() - 0.5), 4.5 * error)
        self.assertLess(abs(draws[:, 1].std() / np.hypot(1.5, 0.5) - 1), 0.06)
        self.assertLess(abs(np.corrcoef(draws[:, 1], draws[:, 2])[0, 1]), 0.08)
        self.assertGreater(np.corrcoef(draws[:, 1], draws[:, 3])[0, 1], 0.85)
        with self.assertRaises(ArgumentError):
            fit.predict(new, new_labels="guess")

    def test_derived_quantities_that_new_rows_cannot_give_are_no_hindrance(self):
        data = {"stone": ["a", "a", "b", "b"], "dressed": [1, 1, 0, 0], "y": [1.0, 2.0, 3.0, 2.0]}
        model = mw.Model(
            priors={"e": "normal(0, 1) per stone", "gain": "normal(0, 1)"},
            likelihood={"y": "normal(e[stone] + gain * dressed, 1)"},
            derived={"typical": "e + gain * dressed per stone"},
        )
        fit = model.fit(data, draws=100, warmup=100, progress=False)
        new = {"stone": ["c", "c"], "dressed": [0, 1]}
        self.assertEqual(fit.predict(new, new_labels="draw").draws["y"].shape, (400, 2))


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
        draws = yeasts().predict({"yeast": ["wild"], "loaves": [20]}).draws["sank"]
        self.assertTrue((draws == np.floor(draws)).all() and draws.max() <= 20)

    def test_bad_new_rows(self):
        with self.assertRaisesRegex(DataError, "label set `yeast`: 'rye'"):
            yeasts().predict({"yeast": ["rye"], "loaves": [20]})
        with self.assertRaisesRegex(DataError, "the new rows need the column `hours`"):
            straight().predict({"minutes": [1.0]})
        with self.assertRaisesRegex(DataError, "give the columns of the new rows as data"):
            straight().predict(rows=2)
        prediction = straight().predict({"hours": [1.0, 5.0]})
        for truth in ({"moisture": [1.0]}, {"other": [1.0, 2.0]}, [np.nan, 1.0]):
            with self.subTest(truth=truth), self.assertRaises(DataError):
                prediction.score(truth)


if __name__ == "__main__":
    unittest.main()
