"""Calibration and recovery: right fits pass, wrong ones are told which way they are wrong."""

import unittest

import numpy as np

import millwright as mw
from millwright.diagnostics.uniformity import even_band, even_places, even_probability
from millwright.errors import ArgumentError
from millwright.models.calibration import calibrate

MODEL = mw.Model(
    priors={"level": "normal(0, 2)", "noise": "half_normal(1)"},
    likelihood={"moisture": "normal(level, noise)"},
)
SETTINGS = {
    "draws": 250,
    "warmup": 250,
    "method": "fixed_length",
    "progress": False,
    "workers": 2,
}


def fitted_by(likelihood):
    """Data come from the right model, fits from another likelihood."""

    class Wrong(mw.Model):
        def fit_each(self, data, **settings):
            other = mw.Model(
                priors={"level": "normal(0, 2)", "noise": "half_normal(1)"},
                likelihood={"moisture": likelihood},
            )
            return other.fit_each(data, **settings)

    return Wrong._of(MODEL.specification)


class Even(unittest.TestCase):
    def test_p_values_of_even_shares_are_even(self):
        random = np.random.default_rng(1)
        found = np.array([even_probability(random.random(60)) for _ in range(400)])
        for limit in (0.05, 0.2, 0.5):
            error = np.sqrt(limit * (1 - limit) / 400)
            self.assertLess(abs(np.mean(found <= limit) - limit), 4 * error)
        self.assertLess(even_probability(random.beta(1.6, 1, 200)), 0.001)

    def test_the_band_holds_whole_lines_at_its_level(self):
        random = np.random.default_rng(2)
        size, places = 80, even_places(80)
        low, high = even_band(80)
        inside = []
        for _ in range(2000):
            below = np.searchsorted(np.sort(random.random(size)), places, side="right") / size
            inside.append(np.all((below >= low) & (below <= high)))
        self.assertGreater(np.mean(inside), 0.93)
        self.assertLess(np.mean(inside), 0.985)


class Calibrated(unittest.TestCase):
    def test_right_and_wrong_fits(self):
        cases = {
            "normal(level, noise)": "",
            "normal(level - 0.4, noise)": "the posterior lies too high",
            "normal(level, noise / 4)": "",
            "normal(level, noise * 0 + 0.15)": "its intervals are too narrow",
        }
        for likelihood, words in cases.items():
            found = calibrate(fitted_by(likelihood), None, 100, 3, 12, None, SETTINGS)
            with self.subTest(likelihood=likelihood):
                level = found.table().loc["level", "in words"]
                self.assertIn(words or "calibrated", level)
                if likelihood == "normal(level, noise / 4)":
                    # Four times the noise is found for the same data.
                    self.assertIn("too high", found.table().loc["noise", "in words"])
                self.assertEqual(found.calibrated, likelihood == "normal(level, noise)")
                start = "Calibrated" if found.calibrated else "NOT CALIBRATED"
                self.assertTrue(str(found).startswith(start))
                figure = mw.plots.calibration(found, ["level"])
                line = figure.axes[0].lines[0].get_ydata()
                low, high = even_band(100)
                places = even_places(100)
                outside = ((line < low - places) | (line > high - places)).any()
                self.assertEqual(outside, bool(words))

    def test_few_data_sets_and_bad_fits_are_said(self):
        few = MODEL.calibration(rows=4, replications=3, **SETTINGS)
        self.assertTrue(str(few).startswith("No fault seen in 3 simulated data sets"))
        nothing = mw.Model(
            priors={"r": "normal(0, 1)"}, likelihood={"n": "poisson(rate=2 + 0 * log(-exp(r)))"}
        )
        with self.assertRaises(ArgumentError):
            nothing.calibration(rows=3, replications=2, **SETTINGS)

    def test_bad_calls(self):
        calls = {
            lambda: MODEL.calibration(rows=5, replications=1): "replications",
            lambda: MODEL.calibration(rows=5, replications=3, names=["leve"], **SETTINGS): "level",
            lambda: MODEL.recovery(rows=0): "rows",
            lambda: MODEL.recovery({"t": {"x": [1.0]}}, rows=5): "one table",
            lambda: mw.plots.calibration(3): "model.calibration",
        }
        for call, words in calls.items():
            with self.subTest(words=words), self.assertRaisesRegex(ArgumentError, words):
                call()


class Recovered(unittest.TestCase):
    def test_bias_coverage_and_width_against_exact_values(self):
        known = mw.Model(
            priors={"level": "normal(0, 2)"}, likelihood={"moisture": "normal(level, 1)"}
        )
        found = known.recovery(
            given={"level": 1.0}, rows=[4, 16], replications=60, seed=2, **SETTINGS
        )
        for rows in (4, 16):
            row = found.frame.loc[(rows, "level")]
            precision = rows + 0.25
            self.assertLess(abs(row["bias"] + 0.25 / precision), 4 * row["error of bias"])
            width = 2 * 1.96 / np.sqrt(precision)
            self.assertAlmostEqual(row["width of 95 % interval"] / width, 1, delta=0.03)
            self.assertLess(abs(row["coverage of 95 % interval"] - 0.95), 4 * np.sqrt(0.05 / 60))
        self.assertIn("`level` is", str(found))
        self.assertIn("with 16 rows", str(found))

    def test_rows_are_drawn_from_the_table(self):
        line = mw.Model(
            priors={"slope": "normal(0, 1)", "base": "normal(0, 1) per stone"},
            likelihood={"moisture": "normal(base[stone] + slope * hours, 1)"},
        )
        data = {"hours": [1.0, 2.0, 3.0], "stone": ["a", "b", "a"]}
        found = line.recovery(data, rows=9, replications=3, given={"slope": 0.5}, **SETTINGS)
        self.assertEqual(list(found.frame.index.get_level_values("rows").unique()), [9])
        self.assertIn("base[b]", found.frame.index.get_level_values("quantity"))
        self.assertIn("from the prior", str(found))
