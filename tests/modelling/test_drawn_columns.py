"""Data sets of models in which one outcome explains another: whole joint draws."""

import unittest

import numpy as np
import pandas as pd

import millwright as mw
from millwright.errors import DataError, ModelError


class Joint(unittest.TestCase):
    def test_what_rests_on_an_outcome_rests_on_its_drawn_values(self):
        """With one column given, with gaps in it, and without any data but the number of rows."""
        model = mw.Model(
            priors={"start": "normal(0, 1)", "drying": "normal(0, 1)"},
            derived={"middle": "start + drying * hours"},
            likelihood={
                "loss": "normal(moisture - hours, 0.01)",
                "moisture": "normal(middle, 0.01)",
                "hours": "normal(2, 1)",
            },
        )
        hours = np.array([1.0, 2.0, np.nan, 4.0])
        kinds = {"rows": {"rows": 4}}
        for name, column in {"whole": np.arange(4.0), "gaps": hours, "none": None}.items():
            data = {"moisture": np.zeros(4), "loss": np.zeros(4), "hours": column}
            kinds[name] = {"data": {k: v for k, v in data.items() if v is not None}}
        for name, given in kinds.items():
            with self.subTest(data=name):
                found = model.simulate(seed=1, draws=500, **given)
                start, drying = (found.draws.get(n)[0][:, None] for n in ("start", "drying"))
                out = found.outcomes
                line = start + drying * out["hours"]
                self.assertAlmostEqual((out["moisture"] - line).std(), 0.01, delta=0.001)
                error = out["loss"] - out["moisture"] + out["hours"]
                self.assertAlmostEqual(error.std(), 0.01, delta=0.001)
                self.assertAlmostEqual(out["hours"].std(), 1, delta=0.1)
                np.testing.assert_allclose(found.draws.get("middle")[0], line)

    def test_counts_are_drawn_among_those_that_were_drawn(self):
        model = mw.Model(
            priors={"many": "gamma(shape=4, rate=1)", "share": "beta(alpha=2, beta=2)"},
            likelihood={
                "torn": "binomial(trials=sacks, probability=share)",
                "sacks": "poisson(rate=many)",
            },
        )
        drawn = model.simulate(rows=30, seed=1, draws=200)
        self.assertTrue((drawn.outcomes["torn"] <= drawn.outcomes["sacks"]).all())
        data = {"sacks": [4, 2, 7, 3], "torn": [1, 2, 3, 0]}
        given = {"many": 5, "share": 0.3}
        found = model.recovery(data, given=given, replications=60, seed=1).frame.loc[4]
        # The posterior mean of `many` is that of a gamma distribution, (4 + sum) / (1 + rows).
        off = found.loc["many", "bias"] - ((4 + 4 * 5) / 5 - 5)
        self.assertLess(abs(off), 4.5 * found.loc["many", "error of bias"])

    def test_a_matrix_of_columns_holds_what_was_drawn_of_one(self):
        model = mw.Model(
            priors={"start": "normal(0, 1)", "weight": "normal(0, 1) per X"},
            columns={"X": ["Moisture (%)", "$5"], "moisture": "Moisture (%)"},
            derived={"sum_of_both": "X @ weight"},
            likelihood={"loss": "normal(sum_of_both, 0.01)", "moisture": "normal(start, 1)"},
        )
        data = pd.DataFrame(
            {"Moisture (%)": [1.0, 2.0, 4.0], "$5": [0.5, -1.0, 0.0], "loss": [0.0, 1.0, 2.0]}
        )
        found = model.simulate(data, seed=1, draws=300)
        weight = found.draws.get("weight")[0]
        line = weight[:, :1] * found.outcomes["moisture"] + weight[:, 1:] * data["$5"].to_numpy()
        self.assertAlmostEqual((found.outcomes["loss"] - line).std(), 0.01, delta=0.001)
        np.testing.assert_allclose(found.draws.get("sum_of_both")[0], line)
        # The data set is a table that the model reads, without the matrix of before.
        drawn = found.data(0)
        self.assertEqual(set(drawn.columns), {"moisture", "$5", "loss"})

    def test_a_process_that_another_outcome_reads(self):
        model = mw.Model(
            priors={"lean": "normal(0, 0.4)", "rise": "normal(0, 1)"},
            likelihood={
                "level": "normal(rise * stage, 0.01)",
                "stage": "autoregressive(0, 1, coefficients=[lean], start_scale=1)",
            },
        )
        data = {"stage": np.zeros(6), "level": np.zeros(6)}
        found = model.simulate(data, seed=1, draws=200)
        rest = (
            found.outcomes["level"]
            - found.draws.get("rise")[0][:, None] * (found.outcomes["stage"])
        )
        self.assertAlmostEqual(rest.std(), 0.01, delta=0.001)
        with self.assertRaisesRegex(DataError, "`stage` is an outcome that this reads, and the"):
            model.simulate(rows=6, seed=1)

    def test_a_line_says_at_what_the_outcomes_that_it_reads_are_held(self):
        rng = np.random.default_rng(0)
        data = pd.DataFrame({"hours": np.arange(8.0), "moisture": rng.normal(15, 1, 8).round(1)})
        data["flour"] = 80 - data["moisture"]
        model = mw.Model(
            priors={"rise": "normal(0, 1)", "loss": "normal(0, 1)"},
            likelihood={
                "moisture": "normal(15 + rise * hours, 1)",
                "flour": "normal(80 + loss * moisture, 1)",
            },
        )
        posterior = model.fit(data, seed=1, draws=200, progress=False)
        figure = mw.plots.fitted_line(posterior, "hours", "flour")
        words = " ".join(" ".join(text.get_text() for text in figure.texts).split())
        self.assertIn(f"Held meanwhile: moisture at {data['moisture'].mean():.3g}.", words)
        own = mw.plots.fitted_line(posterior, "hours", "moisture")
        self.assertNotIn("Held", " ".join(text.get_text() for text in own.texts))

    def test_counts_that_new_rows_lack_are_asked_for(self):
        model = mw.Model(
            priors={"share": "beta(alpha=2, beta=2)"},
            likelihood={
                "torn": "binomial(trials=sacks, probability=share)",
                "sacks": "poisson(rate=4)",
            },
        )
        data = {"sacks": [4, 2, 7], "torn": [1, 2, 3]}
        posterior = model.fit(data, seed=1, draws=100, progress=False)
        with self.assertRaisesRegex(DataError, "need the column `sacks`"):
            posterior.predict(rows=2)
        found = posterior.predict({"sacks": [5]}).draws["torn"]
        self.assertLessEqual(found.max(), 5)

    def test_labels_that_are_drawn_look_up_their_effects(self):
        model = mw.Model(
            priors={"score": "normal(0, 1) per grade", "effect": "normal(0, 5) per grade"},
            labels={"grade": ["coarse", "fine"]},
            likelihood={
                "grade": "categorical(log_odds=score)",
                "price": "normal(effect[grade] + 100 * (grade == 'fine'), 0.01)",
            },
        )
        for given in ({"rows": 6}, {"data": {"grade": ["coarse", "fine"], "price": [1.0, 2.0]}}):
            drawn = model.simulate(seed=1, draws=300, **given)
            grade = drawn.outcomes["grade"].astype(int)
            effect = drawn.draws.get("effect")[0]
            exact = np.take_along_axis(effect, grade, axis=1) + 100 * grade
            self.assertAlmostEqual((drawn.outcomes["price"] - exact).std(), 0.01, delta=0.001)
            self.assertEqual(set(np.unique(grade)), {0, 1})

    def test_what_cannot_be_drawn_with_one_value_a_group(self):
        model = mw.Model(
            priors={"lift": "normal(height, 1) per mill"},
            likelihood={"height": "normal(0, 1)", "flow": "normal(lift[mill], 1)"},
        )
        data = {"mill": ["a", "a", "b"], "height": [1.0, 1.0, 2.0], "flow": [0.0, 1.0, 2.0]}
        with self.assertRaisesRegex(ModelError, "whole data sets of this model cannot be"):
            model.simulate(data, seed=1)
        circle = mw.Model(
            priors={"lean": "normal(0, 1)"},
            likelihood={"flow": "normal(lean * height, 1)", "height": "normal(lean * flow, 1)"},
        )
        with self.assertRaisesRegex(ModelError, "`flow` and `height` rest on each other"):
            circle.simulate({name: data[name] for name in ("flow", "height")}, seed=1)
        looked_up = mw.Model(
            priors={"rate": "exponential(rate=1)", "lift": "normal(0, 1) per sacks"},
            likelihood={"sacks": "poisson(rate=rate)", "flow": "normal(lift[sacks], 1)"},
        )
        with self.assertRaisesRegex(ModelError, "numbers that are drawn cannot look up"):
            looked_up.simulate({"sacks": [1, 2, 2], "flow": [0.0, 1.0, 2.0]}, seed=1)
