"""Causal graphs against data made from them, their words, drawing and command's file."""

import functools
import tempfile
import unittest
from pathlib import Path

import numpy as np
import pandas as pd

import millwright as mw
from millwright.errors import ArgumentError, DataError, StorageError

WEAR = mw.demo.load("stone_wear").frame
TEXT = (
    "demand -> hours, dressings; hours -> wear; dressings -> wear; flow -> speed -> heat -> wear"
)
GRAPH = mw.CausalGraph(TEXT)


@functools.cache
def hours():
    return GRAPH.estimate(WEAR, effect_of="hours", on="wear", seed=1)


class Estimates(unittest.TestCase):
    def test_masked_effects_come_out_by_adjustment(self):
        truth = mw.demo.load("stone_wear").truth["hours on wear"]
        self.assertEqual(list(hours().findings), ["`demand`", "`dressings`"])
        for found in hours().findings.values():
            values = found.numbers["hours"]
            self.assertLess(abs(values.mean() - truth), 3 * values.std())
        alone = hours().alone.numbers["hours"]
        self.assertGreater(abs(alone.mean() - truth), 4 * alone.std())
        told = str(hours())
        for words in ("Adjusted for `dressings`", "which is not the effect", "assumes that"):
            self.assertIn(words, told)
        self.assertEqual(len(hours().table()), 3)

    def test_standardised_effects_are_the_strengths(self):
        found = GRAPH.estimate(WEAR * 5, effect_of="flow", on="speed", standardise=True, seed=1)
        values = found.findings["nothing"].numbers["flow"]
        strength = GRAPH.strengths(WEAR)["flow", "speed"]
        self.assertLess(abs(values.mean() - strength), 0.1 * values.std() + 0.01)
        self.assertIn("for 1 sd more of it", str(found))

    def test_what_is_not_identified_or_not_there(self):
        hidden = mw.CausalGraph("heat -> wear; grain -> heat; grain -> wear", ["grain"])
        with self.assertRaisesRegex(ArgumentError, "not identified by adjustment"):
            hidden.estimate(WEAR, effect_of="heat", on="wear")
        with self.assertRaisesRegex(ArgumentError, "does not identify the effect: `heat`"):
            GRAPH.estimate(WEAR, effect_of="speed", on="wear", given=["heat"])
        with self.assertRaisesRegex(ArgumentError, "unobserved="):
            GRAPH.estimate(WEAR.drop(columns="demand"), effect_of="hours", on="wear")
        with self.assertRaisesRegex(ArgumentError, "'total' or 'direct'"):
            GRAPH.estimate(WEAR, effect_of="hours", on="wear", effect="whole")


class Tested(unittest.TestCase):
    def test_true_and_wrong_graphs(self):
        test = GRAPH.test(WEAR)
        self.assertEqual(len(test.table()), len(GRAPH.independences()))
        self.assertEqual(len(test.against), 0)
        wrong = mw.CausalGraph("demand -> hours -> wear; demand -> dressings; speed -> heat")
        against = wrong.test(WEAR).against
        self.assertIn(("wear", "heat"), [*zip(against["first"], against["second"], strict=True)])
        self.assertIn("a common cause, between the two is missing", str(wrong.test(WEAR)))

    def test_coefficients_are_partial_ones(self):
        row = GRAPH.test(WEAR).table().set_index(["first", "second"]).loc[("demand", "wear")]
        table = (WEAR - WEAR.mean()) / WEAR.std()
        columns = np.column_stack([np.ones(120), table[["wear", "dressings", "hours"]]])
        slopes = np.linalg.lstsq(columns, table["demand"], rcond=None)[0]
        self.assertAlmostEqual(row["coefficient"], slopes[1], 9)

    def test_intervals_cover_the_truth_as_often_as_they_say(self):
        generator = np.random.default_rng(3)
        graph = mw.CausalGraph("a -> b -> c")
        missed = 0
        for _ in range(400):
            a = generator.standard_normal(25)
            b = a + generator.standard_normal(25)
            c = b + generator.standard_normal(25)
            row = graph.test({"a": a, "b": b, "c": c}).table().iloc[0]
            missed += not row.iloc[4] <= 0 <= row.iloc[5]
        self.assertLess(abs(missed - 20), 4.5 * np.sqrt(400 * 0.05 * 0.95))

    def test_strengths_are_given_where_they_are_identified(self):
        found = GRAPH.strengths(WEAR)
        self.assertEqual(set(found), set(GRAPH.graph.arrows))
        self.assertAlmostEqual(found["flow", "speed"], WEAR["flow"].corr(WEAR["speed"]), 9)
        confounded = mw.CausalGraph("flow -> speed; flow <-> speed; speed -> heat")
        self.assertEqual(set(confounded.strengths(WEAR)), {("speed", "heat")})

    def test_gaps_are_counted_and_infinite_numbers_refused(self):
        gaps = WEAR.assign(hours=[np.nan, *WEAR["hours"][1:]])
        self.assertIn("1 of 120 rows left out", str(GRAPH.test(gaps)))
        found = GRAPH.estimate(gaps, effect_of="flow", on="speed", seed=1)
        self.assertEqual(found.remark, "")
        self.assertTrue(found.good)
        for words, table in (
            ("infinite", WEAR.assign(hours=[np.inf, *WEAR["hours"][1:]])),
            ("Every row lacks", WEAR.assign(hours=np.nan)),
        ):
            with self.assertRaisesRegex(DataError, words):
                GRAPH.test(table)

    def test_effects_are_seen_where_there_are_many_paths(self):
        names = [f"v{k}" for k in range(9)]
        arrows = "; ".join(f"{a} -> {b}" for k, a in enumerate(names) for b in names[k + 1 :])
        told = mw.CausalGraph(f"{arrows}; u -> v0; u -> v8").explain("v0", "v8", given=["v3"])
        self.assertNotIn("there is no effect", told)
        self.assertIn("Only 500", told)

    def test_labels_and_columns_that_say_the_same(self):
        table = WEAR.assign(flow=np.where(WEAR["flow"] > 0, "high", "low"))
        self.assertIn("Not asked", str(GRAPH.test(table)))
        still = pd.DataFrame({"a": 1.0, "b": [1.0, 2, 3], "c": [2.0, 1, 5]})
        with self.assertRaisesRegex(ArgumentError, "No independence can be asked"):
            mw.CausalGraph("a -> b -> c").test(still)
        with self.assertRaisesRegex(ArgumentError, "implies no independence"):
            mw.CausalGraph("a -> b").test(still)


class Told(unittest.TestCase):
    def test_words(self):
        told = str(mw.CausalGraph("flow -> speed; grain -> speed; flow <-> heat", ["grain"]))
        for words in ("`speed` is caused by `flow`, `grain`", "common cause", "observed: `grain`"):
            self.assertIn(words, told)
        told = GRAPH.explain("hours", "wear")
        self.assertIn("Minimal sets to adjust for: `demand`; or `dressings`.", told)
        told = mw.CausalGraph("x -> m -> y; x -> c <- y").explain("x", "y", given=["c", "m"])
        for words in (
            "Never adjust for `m`: a mediator",
            "does not identify it",
            "Opened: x -> c",
        ):
            self.assertIn(words, " ".join(told.split()))
        self.assertIn("there is no effect", mw.CausalGraph("y -> x").explain("x", "y"))
        instrument = mw.CausalGraph("z -> x -> y; x <-> y").explain("x", "y")
        self.assertIn("`z` is an instrument", instrument)
        paths = GRAPH.paths("hours", "wear", given=["demand"])
        self.assertEqual(paths["open"].tolist(), [True, False])
        self.assertEqual(paths["blocked by"].tolist(), ["", "demand"])

    def test_effects_are_drawn_set_by_set(self):
        drawn = mw.plots.causal_effects(hours(), hours())
        self.assertEqual(len(drawn.axes), 2)
        names = [label.get_text() for label in drawn.axes[0].get_yticklabels()]
        self.assertEqual(names, ["adjusted for demand", "adjusted for dressings", "no adjustment"])
        dots = [line.get_xdata()[0] for line in drawn.axes[0].lines if line.get_marker() == "o"]
        np.testing.assert_allclose(dots, hours().table()["median"])
        for wrong in ((), (GRAPH,)):
            with self.assertRaises(ArgumentError):
                mw.plots.causal_effects(*wrong)

    def test_drawing(self):
        figure = mw.plots.causal_graph(
            GRAPH, exposure="hours", outcome="wear", strengths=GRAPH.strengths(WEAR)
        )
        texts = [one.get_text() for one in figure.axes[0].texts]
        for words in ("demand", "wear", f"{GRAPH.strengths(WEAR)['hours', 'wear']:.2f}"):
            self.assertIn(words, texts)
        mw.plots.causal_graph(mw.CausalGraph("a -> b; a <-> b"))
        for call in (
            lambda: mw.plots.causal_graph(3),
            lambda: mw.plots.causal_graph(GRAPH, exposure="hours"),
            lambda: mw.plots.causal_graph(GRAPH, given=["stones"]),
            lambda: mw.plots.causal_graph(GRAPH, strengths={("a", "b"): 1.0}),
        ):
            with self.assertRaises(ArgumentError):
                call()

    def test_files(self):
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "stones.txt"
            place.write_text("# what wears stones\nflow -> speed  # the race\nunobserved: flow\n")
            made = mw.CausalGraph.read(place)
            self.assertEqual(made.graph.arrows, (("flow", "speed"),))
            self.assertEqual(made.graph.unobserved, {"flow"})
            with self.assertRaisesRegex(StorageError, "cannot be read"):
                mw.CausalGraph.read(Path(folder) / "none.txt")


if __name__ == "__main__":
    unittest.main()
