"""Data meet a model: labels, shapes, and everything that can be wrong with a table."""

import unittest

import numpy as np
import pandas as pd

import millwright as mw
from millwright.errors import ArgumentError, DataError, MillwrightError, ModelError
from millwright.modelling.simulate import draw_unknowns

STONES = pd.DataFrame(
    {
        "stone": ["Upper", "Lower", "Upper", "Old", "Lower", "Old"],
        "age": [3.0, 7.0, 3.0, 40.0, 7.0, 40.0],
        "hours": [1.0, 2.0, 3.0, 4.0, 5.0, 6.0],
        "sacks": [10, 12, 9, 11, 10, 8],
        "torn": [1, 0, 2, 1, 3, 0],
    }
)
GROUPS = {
    "base": "normal(0, 1.5)",
    "spread": "half_normal(1)",
    "effect": "normal(base, spread) per stone",
}
TORN = {"torn": "binomial(trials=sacks, probability=expit(effect[stone]))"}


def bound(priors=None, likelihood=None, data=None, **rest):
    return mw.Model(priors=priors or GROUPS, likelihood=likelihood or TORN, **rest).bind(
        STONES if data is None else data
    )


class Labels(unittest.TestCase):
    def test_levels_are_sorted_or_those_of_the_category(self):
        self.assertEqual(bound().labels["stone"], ("Lower", "Old", "Upper"))
        category = pd.Categorical(STONES["stone"], categories=["Upper", "Old", "Lower", "New"])
        data = STONES.assign(stone=category)
        self.assertEqual(bound(data=data).labels["stone"], ("Upper", "Old", "Lower"))

    def test_whole_numbers_are_labels_not_positions(self):
        data = STONES.assign(stone=[30, 10, 30, 20, 10, 20])
        binding = bound(data=data, derived={"gap": "effect[30] - effect[10]"})
        self.assertEqual(binding.labels["stone"], (10, 20, 30))
        known = draw_unknowns(binding, 5, np.random.default_rng(0))
        effect = known.values["effect"].values
        np.testing.assert_allclose(known.get("gap").values, effect[:, 2] - effect[:, 0])

    def test_lookup_takes_each_rows_label(self):
        binding = bound(derived={"by_row": "effect[stone]"})
        known = draw_unknowns(binding, 3, np.random.default_rng(0))
        want = known.values["effect"].values[:, [2, 0, 2, 1, 0, 1]]
        np.testing.assert_array_equal(known.get("by_row").values, want)
        self.assertEqual(binding.axes["by_row"], ("row",))

    def test_column_inside_per_is_taken_once_for_each_label(self):
        priors = {**GROUPS, "effect": "normal(base + 0.1 * age, spread) per stone"}
        binding = bound(priors=priors)
        np.testing.assert_array_equal(
            binding.arguments["reduced", "age", "stone"], [7.0, 40.0, 3.0]
        )
        priors["effect"] = "normal(base + 0.1 * hours, spread) per stone"
        with self.assertRaisesRegex(DataError, "varies within Upper, Lower, Old|varies within"):
            bound(priors=priors)

    def test_matrix_of_columns(self):
        model = mw.Model(
            priors={"weights": "normal(0, 1) per X"},
            likelihood={"torn": "poisson(rate=exp(X @ weights))"},
            columns={"X": ["age", "hours"]},
        )
        binding = model.bind(STONES)
        self.assertEqual(binding.labels["X"], ("age", "hours"))
        self.assertEqual(binding.dimension, 2)
        sim = model.simulate(STONES, given={"weights": {"age": 0.0, "hours": 0.2}}, draws=2000)
        mean, n = sim.outcomes["torn"].mean(axis=0), 2000
        want = np.exp(0.2 * STONES["hours"].to_numpy())
        self.assertTrue((np.abs(mean - want) < 5 * np.sqrt(want / n)).all())

    def test_tables_of_different_lengths(self):
        data = {
            "upper": {"a": [1.0, 2.0, 3.0]},
            "lower": pd.DataFrame({"b": [4.0, 5.0]}),
            "scale": 2.0,
        }
        model = mw.Model(
            priors={"level": "normal(0, 5)"},
            likelihood={"a": "normal(level, scale)", "b": "normal(level + 1, scale)"},
        )
        binding = model.bind(data)
        self.assertEqual(
            dict(binding.program.outcome_axes), {"a": ("row of upper",), "b": ("row of lower",)}
        )
        fake = model.simulate(data, draws=3).data(1)
        self.assertEqual((len(fake["upper"]["a"]), len(fake["lower"]["b"])), (3, 2))

    def test_several_label_sets_are_looked_up_together(self):
        data = STONES.assign(week=[1, 1, 2, 2, 3, 3])
        binding = bound(
            priors={"cell": "normal(0, 1) per stone, week"},
            likelihood={"torn": "poisson(rate=exp(cell[stone, week]))"},
            data=data,
            derived={"one": "cell['Upper', 2]", "shift": "cell[stone, 3]"},
        )
        self.assertEqual(binding.dimension, 9)
        known = draw_unknowns(binding, 4, np.random.default_rng(0))
        cell = known.values["cell"].values
        np.testing.assert_array_equal(known.get("one").values, cell[:, 2, 1])
        np.testing.assert_array_equal(known.get("shift").values, cell[:, [2, 0, 2, 1, 0, 1], 2])

    def test_columns_can_share_their_labels(self):
        model = mw.Model(
            priors={"pull": "normal(0, 1) per mill"},
            likelihood={"loads": "poisson(rate=exp(pull[sender] - pull[receiver]))"},
            labels={"mill": "sender, receiver"},
        )
        data = {"sender": ["Old", "New"], "receiver": ["New", "Weir"], "loads": [3, 0]}
        self.assertEqual(model.bind(data).labels["mill"], ("New", "Old", "Weir"))
        listed = mw.Model(
            priors={"pull": "normal(0, 1) per mill"},
            likelihood={"loads": "poisson(rate=exp(pull[sender]))"},
            labels={"mill": ["Weir", "Old", "New", "Fen"]},
        )
        self.assertEqual(listed.bind(data).labels["mill"], ("Weir", "Old", "New", "Fen"))
        for bad in ({"mill": []}, {"mill": ["a", "a"]}, {"pull": ["a"]}, {"mill": 3}):
            with self.subTest(bad=bad), self.assertRaises(ModelError):
                mw.Model(
                    priors={"pull": "normal(0, 1)"},
                    likelihood={"y": "normal(pull, 1)"},
                    labels=bad,
                )

    def test_alias_for_a_column_that_cannot_be_written(self):
        data = {"Moisture (%)": [18.0, 17.0]}
        model = mw.Model(
            priors={"level": "normal(18, 3)"},
            likelihood={"moisture": "normal(level, 1)"},
            columns={"moisture": "Moisture (%)"},
        )
        np.testing.assert_array_equal(model.bind(data).arguments["observed", "moisture"], [18, 17])

    def test_names_change_places_all_at_once(self):
        data = {"y": [1.0, 2.0], "x": [3.0, 4.0], "z": [5.0, 6.0]}
        for columns, x, z in (
            ({"x": "y", "y": "x"}, "y", "z"),
            ({"y": "x", "x": "z", "z": "y"}, "z", "y"),
            ({"y": "x", "z": "x"}, "x", "x"),
        ):
            with self.subTest(columns=columns):
                model = mw.Model(
                    priors={"level": "normal(0, 1)"},
                    likelihood={"y": "normal(level * z" + " * x" * ("x" in columns) + ", 1)"},
                    columns=columns,
                )
                found = model.bind(data).arguments
                np.testing.assert_array_equal(found["observed", "y"], data["x"])
                np.testing.assert_array_equal(found["column", "z"], data[z])
                if "x" in columns:
                    np.testing.assert_array_equal(found["column", "x"], data[x])


class LaterChanges(unittest.TestCase):
    def test_data_that_are_changed_after_a_fit_change_nothing_in_it(self):
        model = mw.Model(
            priors={"level": "normal(0, 5)"}, likelihood={"y": "normal(level * x, 1)"}
        )
        x, y = np.arange(1.0, 5.0), np.arange(4.0)
        for data in (
            pd.DataFrame({"x": x, "y": y}),
            {"x": pd.Series(x), "y": pd.Series(y)},
            {"x": x.copy(), "y": y.copy()},
        ):
            with self.subTest(kind=type(data["y"])):
                fit = model.fit(data, draws=20, warmup=20, seed=1, progress=False)
                before = fit.leave_one_out().elpd
                if isinstance(data, pd.DataFrame):
                    data.loc[0, "y"] = 1e3
                    data.iloc[1, 0] = 1e3
                else:
                    data["y"][0] = data["x"][1] = 1e3
                self.assertEqual(fit.leave_one_out().elpd, before)
                held = fit.draws.binding.tables.columns
                np.testing.assert_array_equal(held["y"].values, y)
                np.testing.assert_array_equal(held["x"].values, x)


class BadInput(unittest.TestCase):
    def assert_refused(self, *words, **given):
        with self.assertRaises(MillwrightError) as caught:
            bound(**given)
        for word in words:
            self.assertIn(word, str(caught.exception))

    def test_unknown_name_with_suggestion_and_caret(self):
        self.assert_refused(
            "`hourz` is neither defined nor a column",
            "Did you mean `hours`",
            "^^^^^",
            likelihood={"torn": "poisson(rate=exp(base + hourz))"},
        )

    def test_unknown_label(self):
        self.assert_refused("no label 'Uper'", "Upper", derived={"x": "effect['Uper']"})

    def test_missing_and_infinite_values_name_column_and_rows(self):
        for bad in (np.nan, np.inf):
            data = STONES.assign(sacks=[10.0, 12.0, bad, 11.0, bad, 8.0])
            self.assert_refused("`sacks`", "rows 3, 5 (counting from 1)", data=data)
        data = STONES.assign(stone=["Upper", None, "Upper", "Old", "Lower", "Old"])
        self.assert_refused("`stone`", "no label in row 2", data=data)

    def test_outcome_outside_the_support(self):
        data = STONES.assign(torn=[1, 0, 12, 1, 3, -1])
        self.assert_refused("binomial", "12, -1", "rows 3, 6", data=data)
        self.assert_refused("0.5", "row 2", data=STONES.assign(torn=[1, 0.5, 1, 1, 1, 1]))

    def test_text_where_numbers_are_needed(self):
        self.assert_refused(
            "holds text",
            "effect[stone]",
            likelihood={"torn": "poisson(rate=exp(base + stone))"},
        )

    def test_shapes_are_reported_by_labels(self):
        self.assert_refused(
            "`effect` has one value per stone (3)",
            "`hours` has one value per row (6)",
            "effect[stone]",
            likelihood={"torn": "poisson(rate=exp(effect + hours))"},
        )
        self.assert_refused(
            "one value per row (6)",
            "a single unknown",
            priors={**GROUPS, "base": "normal(hours, 1)"},
        )

    def test_arguments_that_make_no_sense(self):
        self.assert_refused(
            "`scale` must be above zero, but is -1", priors={**GROUPS, "base": "normal(0, -1)"}
        )
        self.assert_refused(
            "`trials` must be a whole number",
            "row 3",
            data=STONES.assign(sacks=[10, 12, 9.5, 11, 10, 8]),
        )
        self.assert_refused(
            "what rests on an unknown may be any number between",
            priors={**GROUPS, "many": "uniform(low=12, high=40)"},
            likelihood={"torn": "binomial(trials=2 * many, probability=0.3)"},
        )
        self.assert_refused(
            "rows have no labels", priors={**GROUPS, "base": "normal(0, 1) per row"}
        )

    def test_columns_and_definitions_may_not_share_a_name(self):
        self.assert_refused("have a column `base` too", data=STONES.assign(base=1.0))

    def test_tables(self):
        self.assert_refused("must be a DataFrame", data=[1, 2, 3])
        self.assert_refused("tables of their own", data={"a": [1, 2], "b": [1, 2, 3]})
        self.assert_refused("not among the data's columns", data=STONES.drop(columns="torn"))
        self.assert_refused("is empty", data={"a": []})
        self.assert_refused("no column `stone`", data=STONES.drop(columns="stone"))
        twice = pd.concat([STONES, STONES[["age"]]], axis=1)
        self.assert_refused("two columns called `age`", data=twice)


class Simulation(unittest.TestCase):
    def test_given_values_are_held(self):
        model = mw.Model(priors=GROUPS, likelihood=TORN)
        fake = model.simulate(STONES, draws=4, given={"base": 2, "effect": [0, 1, 2]})
        self.assertTrue((fake.unknowns["base"] == 2).all())
        self.assertEqual(list(fake.unknowns.loc[0, ["effect[Old]", "effect[Upper]"]]), [1, 2])
        self.assertEqual(list(fake.data(0).columns), ["stone", "age", "hours", "sacks", "torn"])

    def test_same_seed_same_data_and_global_state_untouched(self):
        model = mw.Model(priors=GROUPS, likelihood=TORN)
        before = np.random.get_state()[1].copy()  # noqa: NPY002
        one, two = (model.simulate(STONES, draws=3, seed=s).unknowns for s in (4, 4))
        pd.testing.assert_frame_equal(one, two)
        np.testing.assert_array_equal(np.random.get_state()[1], before)  # noqa: NPY002

    def test_rows_without_predictors(self):
        model = mw.Model(
            priors={"rate": "gamma(shape=2, rate=1)"}, likelihood={"n": "poisson(rate=rate)"}
        )
        self.assertEqual(model.simulate(rows=7, draws=2).outcomes["n"].shape, (2, 7))
        with self.assertRaisesRegex(DataError, "give rows="):
            model.simulate(draws=2)

    def test_bad_arguments(self):
        model = mw.Model(priors=GROUPS, likelihood=TORN)
        for given in (
            {"nothing": 1},
            {"effect": [1, 2]},
            {"effect": {"Upper": 1}},
            {"base": float("nan")},
            {"base": "x"},
        ):
            with self.subTest(given=given), self.assertRaises(ArgumentError):
                model.simulate(STONES, given=given)
        with self.assertRaises(ArgumentError):
            model.simulate(STONES, draws=0)
        with self.assertRaises(ArgumentError):
            model.simulate(STONES, draws=2).data(2)


class Truth(unittest.TestCase):
    def test_unknown_error_is_a_model_error(self):
        with self.assertRaises(ModelError):
            bound(derived={"x": "nothing + 1"})


if __name__ == "__main__":
    unittest.main()
