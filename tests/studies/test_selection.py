"""Variable selection: draws and densities against exact sums, visible models, what is refused."""

import functools
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
import pandas as pd
from scipy import integrate

import millwright as mw
from millwright.errors import ArgumentError, DataError, ModelError
from millwright.studies.selection_checks import trusted

FLOUR = mw.demo.load("flour_yield").frame.drop(columns="mill")
SOME = ["moisture", "stone_age", "dressing_gap", "wheel_speed", "cats", "rain"]
ROWS = FLOUR.assign(grain=np.tile(["wheat", "rye", "oats"], 20))


def study(**settings):
    return mw.studies.variable_selection(
        FLOUR, "flour", settings.pop("candidates", SOME), **settings
    )


@functools.cache
def found(g="max(n, k^2)"):
    return study(g=g).fit(seed=1, progress=False)


@functools.cache
def walked():
    return mw.studies.variable_selection(FLOUR, "flour", steps=60_000).fit(seed=1, progress=False)


class Exact(unittest.TestCase):
    def test_draws_have_the_exact_moments(self):
        for g in ("max(n, k^2)", "hyper-g/n"):
            table = found(g).coefficients(order="data")
            draws = found(g).posterior.draws.get("coefficient").reshape(-1, len(SOME))
            size = len(draws)
            for at, name in enumerate(SOME):
                row = table.loc[name]
                error = row["sd, 0 if out"] / np.sqrt(size) + 1e-9
                self.assertLess(abs(draws[:, at].mean() - row["mean, 0 if out"]), 4.5 * error)
                self.assertAlmostEqual(draws[:, at].std(), row["sd, 0 if out"], delta=0.02)
                chance = row["probability in"]
                spread = np.sqrt(max(chance * (1 - chance), 1e-6) / size)
                self.assertLess(abs((draws[:, at] != 0).mean() - chance), 5 * spread)

    def test_densities_have_the_exact_moments_and_quantiles(self):
        for g in ("max(n, k^2)", "hyper-g"):
            for name, density in found(g).densities.items():
                row = found(g).coefficients().loc[name]
                curve = density.where_in
                total = integrate.trapezoid(curve.densities, curve.grid)
                mean = integrate.trapezoid(curve.densities * curve.grid, curve.grid)
                self.assertAlmostEqual(total, 1.0, 3)
                self.assertAlmostEqual(mean, row["mean if in"], 2)
        cats = found().density(found().order[-1])
        self.assertEqual(cats.quantile(0.5), 0.0)
        below = cats.inside * (1 - cats.above(0.0))
        self.assertGreater(cats.quantile(below + 1 - cats.inside + 1e-4), 0.0)
        self.assertLess(cats.quantile(below - 1e-4), 0.0)

    def test_the_visible_model_of_a_subset_has_its_coefficients(self):
        for g in ("max(n, k^2)", "hyper-g"):
            terms = ["moisture", "wheel_speed"]
            made = study(g=g, candidates=terms, always=terms)
            model, data = made.model_of(*terms)
            sampled = model.fit(data, seed=2, draws=1500, progress=False)
            exact = made.fit(seed=1, progress=False)
            turned = np.linalg.qr(made.candidates.values)[1]
            slopes = sampled.draws.get("turned") @ np.linalg.inv(turned).T
            slopes = (slopes / made.candidates.length).reshape(-1, 2)
            table = exact.coefficients(order="data")
            for at, name in enumerate(terms):
                row = table.loc[name]
                self.assertAlmostEqual(slopes[:, at].mean(), row["mean if in"], delta=0.03)
                self.assertAlmostEqual(slopes[:, at].std(), row["sd if in"], delta=0.02)
            noise = exact.posterior.draws.get("noise")
            self.assertAlmostEqual(sampled.draws.get("noise").mean(), noise.mean(), delta=0.05)

    def test_prior_probabilities_are_exact_where_terms_are_bound(self):
        free = study(expected_size=2)
        np.testing.assert_allclose(free.prior[0], 2 / 6)
        np.testing.assert_allclose(free.prior[1] @ np.arange(7), 2)
        each = study(prior={"moisture": 0.9, "cats": 0.1})
        np.testing.assert_allclose(each.prior[0], [0.9, 0.5, 0.5, 0.5, 0.1, 0.5])
        bound = study(candidates="~ moisture * cats", prior="uniform")
        # 5 of 8 subsets have the parents of what they hold: 0, a, b, ab, ab and a:b.
        np.testing.assert_allclose(bound.prior[0], [3 / 5, 3 / 5, 1 / 5])
        rivals = study(candidates=["moisture", "cats"], exclusive=[("moisture", "cats")])
        np.testing.assert_allclose(rivals.prior[1].sum(), 1)
        np.testing.assert_allclose(rivals.prior[1][2], 0)

    def test_labels_enter_together(self):
        made = mw.studies.variable_selection(ROWS, "flour", ["grain", "moisture"])
        self.assertEqual(made.candidates.columns_of["grain"], ("grain[T.rye]", "grain[T.wheat]"))
        table = made.fit(seed=1, progress=False).coefficients()
        self.assertEqual(
            table["probability in"]["grain[T.rye]"], table["probability in"]["grain[T.wheat]"]
        )

    def test_predictions_are_averaged_over_subsets(self):
        table = found().predict().table()
        slopes = found().coefficients(order="data")["mean, 0 if out"].to_numpy()
        centred = FLOUR[SOME] - FLOUR[SOME].mean()
        expected = FLOUR["flour"].mean() + centred.to_numpy() @ slopes
        np.testing.assert_allclose(table["mean"], expected, atol=0.12)
        new = found().predict({name: [0.0, 1.0] for name in SOME}).table()["mean"]
        self.assertAlmostEqual(new.diff().iloc[1], slopes.sum(), delta=0.12)
        with self.assertRaisesRegex(DataError, "lack the column"):
            found().predict({"cats": [1.0]})


class Searched(unittest.TestCase):
    def test_forty_candidates_are_walked_over(self):
        table = walked().inclusion()
        truth = mw.demo.load("flour_yield").truth
        self.assertEqual({*table.index[:4]}, {*truth} - {"noise"})
        apart = (table["by visits"] - table["posterior probability"]).abs()
        self.assertLess((apart / table["its error"].clip(lower=0.004)).max(), 5)
        self.assertEqual(walked().verdict.headline, "Converged: no problem found.")

    def test_short_walks_are_cautioned(self):
        short = mw.studies.variable_selection(FLOUR, "flour", steps=1000, burn_in=0)
        verdict = short.fit(seed=1, progress=False).verdict
        self.assertFalse(verdict.good)
        self.assertIn("alk longer, steps=", str(verdict))
        few = mw.studies.variable_selection(FLOUR, "flour", steps=20_000, kept=10)
        self.assertIn("kept=100", str(few.fit(seed=1, progress=False).verdict))

    def test_walks_that_disagree_are_cautioned(self):
        explored, terms = walked().explored, FLOUR.columns[1:]
        visits = explored.visits
        calm = trusted(explored, terms, walked().study.walks)
        self.assertEqual(calm.findings, ())
        sizes, shares = visits.mean_size.copy(), visits.included.copy()
        sizes[0] += 2
        shares[0, :, 5] = 0.9
        for words, change in (
            ("number of candidates", {"mean_size": sizes}),
            (f"`{terms[5]}` was in", {"included": shares}),
        ):
            stray = replace(explored, visits=replace(visits, **change))
            told = trusted(stray, terms, walked().study.walks).findings
            self.assertTrue(any(words in one.problem for one in told), words)

    def test_progress_is_told(self):
        stages = []
        study().fit(seed=1, progress=lambda event: stages.append((event.stage, event.share)))
        self.assertEqual(stages[0][0], "compiling")
        self.assertEqual(stages[-1], ("finished", 1.0))


class Told(unittest.TestCase):
    def test_answer_tables_and_store(self):
        told = " ".join(found().answer)
        for words in ("`moisture` above 0.9999 (negative", "All 64 subsets", "what causes what"):
            self.assertIn(words, told)
        best = found().best_models(3)
        self.assertEqual(best["odds of the first"].iloc[0], 1.0)
        share = found().explored.shares
        self.assertAlmostEqual(best["posterior probability"].iloc[0], share[0])
        self.assertEqual(found().sizes()["posterior probability"].sum().round(9), 1.0)
        self.assertEqual(len(found().pairs(4)), 4)
        self.assertIn("exactly 0", found().summary())
        self.assertEqual(len(found().summary("csv").splitlines()), 1 + len(SOME))
        self.assertIn("regression", type(found().regression("cats")).__name__.lower())
        with tempfile.TemporaryDirectory() as folder:
            found().save(Path(folder) / "stored")
            stored = mw.studies.load(Path(folder) / "stored")
            self.assertEqual(str(stored), str(found()))
            place = study().write(Path(folder) / "sheets")
            model = mw.Model.read(place / "average.toml")
            model.bind(pd.read_csv(place / "data.csv"))

    def test_the_average_is_of_no_single_model(self):
        chance = found().posterior.probability('coefficient["cats"] == 0').value
        self.assertAlmostEqual(chance, 1 - found().inclusion()["posterior probability"]["cats"], 1)
        with self.assertRaisesRegex(ModelError, "average over models"):
            found().posterior.evidence()

    def test_figures_show_the_tables(self):
        bars = mw.plots.study(walked(), "inclusion").axes[0].patches
        table = walked().inclusion()
        np.testing.assert_allclose(
            [bar.get_width() for bar in bars], table["posterior probability"]
        )
        above, below = mw.plots.study(walked(), "models").axes
        heights = [bar.get_height() for bar in above.patches]
        np.testing.assert_allclose(heights, walked().explored.shares[: len(heights)])
        marks = sum(len(line.get_xdata()) for line in below.lines if line.get_marker() in "^vs")
        self.assertEqual(marks, int(walked().explored.kept[: len(heights)].sum()))
        sizes = mw.plots.study(found(), "sizes").axes[0].patches
        np.testing.assert_allclose(
            [bar.get_height() for bar in sizes],
            found().sizes()["posterior probability"],
            atol=1e-3,
        )

    def test_what_is_said_by_others_and_perfect_fits(self):
        twice = FLOUR[["flour", "moisture", "cats"]].assign(wet=FLOUR["moisture"] * 2)
        made = mw.studies.variable_selection(twice, "flour")
        self.assertIn("`moisture`, `wet`", str(made))
        inclusion = made.fit(seed=1, progress=False).inclusion()["posterior probability"]
        self.assertAlmostEqual(inclusion["moisture"], inclusion["wet"], 9)
        self.assertAlmostEqual(inclusion["moisture"] + inclusion["wet"], 1.0, 4)
        computed = FLOUR[["cats", "rain"]].assign(flour=3 * FLOUR["cats"] + 1)
        perfect = mw.studies.variable_selection(computed, "flour").fit(seed=1, progress=False)
        self.assertIn("explains the outcome wholly", str(perfect.verdict))


class Refused(unittest.TestCase):
    def test_settings_that_make_no_sense(self):
        for words, settings in (
            ("above 0", {"g": -1}),
            ("is a number or one of", {"g": "m"}),
            ("beta-binomial, uniform", {"prior": "flat"}),
            ("between 0 and 1", {"prior": 1.2}),
            ("Did you mean `cats`", {"prior": {"cat": 0.5}}),
            ("below 6", {"expected_size": 9}),
            ("goes with", {"expected_size": 1, "prior": "uniform"}),
            ("auto, all, walk", {"search": "fast"}),
            ("from 1000", {"steps": 3}),
            ("from 2", {"walks": 1}),
            ("from 10", {"kept": 1}),
            ("no candidate", {"always": ["dogs"]}),
            ("two or more", {"exclusive": [("cats",)]}),
            ("exclude each other", {"always": ["cats", "rain"], "exclusive": [("cats", "rain")]}),
            ("its parent", {"candidates": "~ cats * rain", "always": ["cats:rain"]}),
            ("named twice", {"candidates": ["cats", "cats"]}),
            ("There is no candidate", {"candidates": []}),
            ("is the outcome", {"candidates": ["flour", "cats"]}),
            ("keeps its intercept", {"candidates": "~ cats - 1"}),
        ):
            with self.subTest(words), self.assertRaisesRegex(ArgumentError, words):
                study(**settings)
        with self.assertRaisesRegex(ArgumentError, "too many subsets"):
            mw.studies.variable_selection(FLOUR, "flour", search="all")
        for call in (
            lambda: found().inclusion("name"),
            lambda: found().best_models(0),
            lambda: found().density("dogs"),
            lambda: found().regression("dogs"),
        ):
            with self.assertRaises(ArgumentError):
                call()

    def test_data_that_make_no_sense(self):
        for words, table in (
            ("same in all rows: nothing", FLOUR.assign(flour=1.0)),
            ("same in all rows, which", FLOUR.assign(cats=1.0)),
            ("missing in 1", FLOUR.assign(cats=[np.nan, *FLOUR["cats"][1:]])),
            ("four are the least", FLOUR.iloc[:3]),
        ):
            with self.subTest(words), self.assertRaisesRegex(DataError, words):
                mw.studies.variable_selection(table, "flour", SOME)
        gaps = FLOUR.assign(cats=[np.nan, *FLOUR["cats"][1:]])
        made = mw.studies.variable_selection(gaps, "flour", SOME, missing="drop")
        self.assertIn("`cats` in 1", str(made))
        np.testing.assert_allclose(made.prior[0], 0.5)
        twice = FLOUR.assign(dogs=FLOUR["cats"] * 2)
        with self.assertRaisesRegex(DataError, "say what others there say"):
            mw.studies.variable_selection(twice, "flour", always=["cats", "dogs"])
        wide = mw.studies.variable_selection(FLOUR.iloc[:10], "flour", steps=4000)
        self.assertIn("more than 7 columns are left out", str(wide))
        self.assertLessEqual(wide.fit(seed=1, progress=False).explored.columns.max(), 7)
        with self.assertRaisesRegex(ArgumentError, "more than 10 rows allow"):
            wide.simulate()


if __name__ == "__main__":
    unittest.main()
