"""Terms added to the log density, and rows whose outcome is missing."""

import tempfile
import unittest

import numpy as np
from scipy import stats

import millwright as mw
from millwright.diagnostics.convergence import mean_error
from millwright.errors import ArgumentError, DataError, ModelError


class Terms(unittest.TestCase):
    def setUp(self):
        self.y = np.array([1.0, 2.5, 0.3])
        self.model = mw.Model(
            priors={"level": "normal(0, 2)"},
            likelihood={},
            log_density_terms={
                "rows": "-0.5 * (y - level) ** 2",
                "soft": lambda level: -2 * (level - 1) ** 2,
            },
        )

    def test_a_likelihood_of_ones_own_gives_the_exact_posterior(self):
        posterior = self.model.fit({"y": self.y}, seed=1, draws=2000, progress=False)
        precision = 1 / 4 + 3 + 4
        exact = stats.norm((self.y.sum() + 4) / precision, precision**-0.5)
        x = posterior.draws.get("level")[..., None]
        self.assertLess(abs(x.mean() - exact.mean()), 4.5 * mean_error(x)[0])
        self.assertAlmostEqual(x.std(), exact.std(), delta=0.02)
        with self.assertRaisesRegex(ModelError, "row by row"):
            posterior.leave_one_out()

    def test_described_stored_and_equal_after_a_round_trip(self):
        self.assertIn("Terms added to the log density", self.model.describe())
        from millwright.storage.sheet import sheet_text, specification_from

        text = sheet_text(self.model.specification)
        self.assertEqual(specification_from(text, "sheet"), self.model.specification)

    def test_the_prior_alone_cannot_be_drawn(self):
        with self.assertRaisesRegex(ModelError, "give values for all unknowns"):
            self.model.simulate({"y": self.y})

    def test_bad_terms(self):
        for text in ("normal(0, 1)", "level per y"):
            with self.subTest(text=text), self.assertRaises(ModelError):
                mw.Model(
                    priors={"level": "normal(0, 1)"}, likelihood={}, log_density_terms={"t": text}
                )


class Missing(unittest.TestCase):
    def setUp(self):
        self.model = mw.Model(
            priors={"level": "normal(0, 5)"}, likelihood={"y": "normal(level + x, 1)"}
        )
        self.data = {"x": [0.0, 1.0, 2.0, 3.0], "y": [1.0, np.nan, 3.5, np.nan]}

    def test_refused_unless_asked_for(self):
        with self.assertRaisesRegex(DataError, "missing='drop'"):
            self.model.fit(self.data, progress=False)
        with self.assertRaisesRegex(ArgumentError, "`missing`"):
            self.model.fit(self.data, progress=False, missing="ignore")

    def test_rows_set_aside_come_back_as_predictions(self):
        posterior = self.model.fit(self.data, missing="predict", progress=False)
        self.assertIn("Rows left out of the fit because `y` was missing: 2", str(posterior))
        gaps = np.flatnonzero(np.isnan(self.data["y"]))
        with tempfile.TemporaryDirectory() as folder:
            posterior.save(folder + "/run")
            loaded = mw.load(folder + "/run")
        for each in (posterior, loaded):
            table = each.predict_missing().table()
            self.assertEqual([row for _, row in table.index], list(gaps + 1))
        clean = self.model.fit(self.data, missing="drop", progress=False)
        with self.assertRaisesRegex(ArgumentError, "missing='predict'"):
            clean.predict_missing()

    def test_a_series_cannot_have_gaps(self):
        model = mw.Model(
            priors={"s": "half_normal(1)"}, likelihood={"y": "random_walk(start=0, scale=s)"}
        )
        with self.assertRaisesRegex(DataError, "follow each other"):
            model.fit(self.data, missing="drop", progress=False)

    def test_dropped_rows_are_counted_and_change_nothing_else(self):
        settings = {"seed": 3, "draws": 100, "warmup": 100, "progress": False}
        dropped = self.model.fit(self.data, missing="drop", **settings)
        clean = self.model.fit({"x": [0.0, 2.0], "y": [1.0, 3.5]}, **settings)
        np.testing.assert_array_equal(dropped["level"].values, clean["level"].values)
        self.assertIn("Rows dropped because `y` was missing: 2.", str(dropped))
        self.assertEqual(dropped.record.dropped, {"y": 2})

    def test_missing_predictors_and_empty_outcomes_are_still_refused(self):
        bad = {**self.data, "x": [0.0, 1.0, np.nan, 3.0]}
        with self.assertRaisesRegex(DataError, "`x`"):
            self.model.fit(bad, missing="drop", progress=False)
        with self.assertRaisesRegex(DataError, "nothing is left"):
            self.model.fit({"x": [1.0], "y": [np.nan]}, missing="drop", progress=False)


if __name__ == "__main__":
    unittest.main()
