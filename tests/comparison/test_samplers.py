"""Methods side by side: the table's numbers, and the figure."""

import unittest

import numpy as np
from matplotlib.figure import Figure

import millwright as mw
from millwright.errors import ArgumentError, UnknownLabelError

TARGET = mw.Target(lambda x: -0.5 * (x - 2) ** 2, {"x": "real"})


class Compared(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        methods = ["no_u_turn", mw.RandomWalk(steps=1), "rejection"]
        cls.found = mw.compare_samplers(TARGET, methods, truth={"x": 2.0}, draws=500, seed=1)

    def test_independent_draws_show_no_autocorrelation_and_a_chain_does(self):
        lag = self.found.table["lag-1 autocorrelation"]
        self.assertLess(abs(lag["rejection", "x"]), 0.06)
        self.assertGreater(lag["random_walk", "x"], 0.3)

    def test_numbers_agree_with_the_posteriors(self):
        row = self.found.table.loc[("random_walk", "x")]
        fit = self.found.posteriors["random_walk"]
        evaluations = 4 * (500 + 1000)
        self.assertAlmostEqual(
            row["effective draws per 1000 evaluations"],
            1000 * row["effective draws"] / evaluations,
        )
        self.assertAlmostEqual(row["estimate"], float(fit["x"].mean()))
        self.assertAlmostEqual(
            row["error / Monte Carlo error"], (row["estimate"] - 2) / row["Monte Carlo error"]
        )
        self.assertTrue((np.abs(self.found.table["error / Monte Carlo error"]) < 4).all())

    def test_text_and_figure(self):
        text = str(self.found)
        for words in (
            "0 for independent draws",
            "more is better",
            "error / Monte Carlo error",
            "random_walk: x",
        ):
            self.assertIn(words, text)
        figure = mw.plots.samplers(self.found)
        self.assertIsInstance(figure, Figure)
        self.assertEqual(len(figure.axes), 2)
        with self.assertRaisesRegex(ArgumentError, "one to four"):
            mw.plots.samplers(self.found, "z")

    def test_without_a_truth_there_is_no_error_column(self):
        found = mw.compare_samplers(TARGET, {"mine": mw.Rejection()}, draws=100)
        self.assertNotIn("truth", found.table)
        self.assertNotIn("truth", str(found))

    def test_arguments_that_make_no_sense(self):
        for call, error, words in (
            (lambda: mw.compare_samplers(3), ArgumentError, "a model or a target"),
            (lambda: mw.plots.samplers(3), ArgumentError, "compare_samplers"),
            (lambda: mw.compare_samplers(TARGET, []), ArgumentError, "at least one"),
            (lambda: mw.compare_samplers(TARGET, "no_u_turn"), ArgumentError, "must be a list"),
            (
                lambda: mw.compare_samplers(TARGET, [mw.RandomWalk(), "random_walk"]),
                ArgumentError,
                "mapping from labels",
            ),
            (
                lambda: mw.compare_samplers(TARGET, ["rejection"], truth={"z": 1}, draws=50),
                UnknownLabelError,
                "`z`",
            ),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(error, words):
                call()


if __name__ == "__main__":
    unittest.main()
