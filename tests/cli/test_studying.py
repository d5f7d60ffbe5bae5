"""The command for studies, and what other commands make of a stored one."""

import json
import shutil
import tempfile
import unittest
from pathlib import Path

import millwright as mw
from tests.cli.here import run_here


class Studying(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        for name in (
            *("yeasts", "sack_weights", "river_days", "dressing_trials"),
            *("loft_trials", "powder_trials", "flour_yield"),
        ):
            mw.demo.load(name).frame.to_csv(self.folder / f"{name}.csv", index=False)

    def run_study(self, *arguments):
        return run_here("study", *arguments, cwd=self.folder)

    YEASTS = ("yeasts.csv", "--outcome", "sank", "--trials", "loaves", "--group", "yeast")

    def test_answers_from_one_command(self):
        done = self.run_study("proportions", *self.YEASTS, "--rope", "-0.02 to 0.02", "--hdi")
        self.assertEqual(done.returncode, 0, done.stderr)
        for words in ("Question:", "wild", "95 % HDI", "WITHHOLD", "Verdict: Exact"):
            self.assertIn(words, done.stdout)
        machine = json.loads(self.run_study("proportions", *self.YEASTS, "--json").stdout)
        self.assertEqual(machine["study"], "proportions")
        self.assertIn("interval_low", machine["table"]["difference"])

    def test_priors_sheets_and_plans(self):
        prior = ("--prior", "wild=beta(alpha=2, beta=8)")
        done = self.run_study("proportions", *self.YEASTS, *prior, "--plan")
        self.assertIn('where(yeast == "brewer", 1, 2)', done.stdout)
        self.assertIn("simulated", done.stdout)
        done = self.run_study(
            *("two-groups", "sack_weights.csv", "--outcome", "weight", "--group", "spout"),
            *("--prior", "scale=half_normal(3)", "--sheet", "sheets"),
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("half_normal(3) per spout", (self.folder / "sheets/robust.toml").read_text())

    def test_trials_are_put_together(self):
        trials = ("meta-analysis", "dressing_trials.csv", "--estimate", "difference")
        models = ("--prior", "random=0.5", "--prior", "null random=0.5")
        priors = ("--effect", "normal(0, 0.5)", "--spread", "half_normal(0.3)", "--order", "year")
        done = self.run_study(*trials, *models, *priors, "--json")
        self.assertEqual(done.returncode, 0, done.stderr)
        machine = json.loads(done.stdout)
        made = mw.studies.meta_analysis(
            mw.demo.load("dressing_trials").frame,
            "difference",
            effect="normal(0, 0.5)",
            spread="half_normal(0.3)",
            prior={"random": 0.5, "null random": 0.5},
        ).fit()
        self.assertEqual(machine["bayes_factors"], [one.record for one in made.factors])
        wrong = self.run_study(*trials, "--prior", "effect=normal(0, 1)")
        self.assertIn("--effect and --spread", wrong.stderr)
        offered = run_here("new", "dressing_trials.csv", cwd=self.folder)
        self.assertIn("meta-analysis", offered.stdout + offered.stderr)

    def test_trials_with_covariates_and_with_bias(self):
        lofts = ("meta-analysis", "loft_trials.csv", "--estimate", "difference", "--per", "mill")
        done = self.run_study(*lofts, "--correlation", 0.5, "--covariates", "~ heat", "--json")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("slope of heat", json.loads(done.stdout)["table"])
        twice = self.run_study(*lofts, "--per", "grain", "--correlation", 0.5)
        self.assertIn("one column", twice.stderr)
        powder = ("meta-analysis", "powder_trials.csv", "--estimate", "gain", "--label", "report")
        done = self.run_study(*powder, "--bias", "positive", "--json")
        self.assertEqual(done.returncode, 0, done.stderr)
        found = json.loads(done.stdout)["publication_bias"]
        self.assertEqual(found["direction"], "positive")

    def test_candidates_are_weighed(self):
        call = ("variable-selection", "flour_yield.csv", "--outcome", "flour", "--g", "n")
        some = ("--candidates", "moisture", "--candidates", "cats", "--candidates", "rain")
        bound = ("--exclusive", "cats | rain", "--prior", 0.3, "--json")
        done = self.run_study(*call, *some, *bound)
        self.assertEqual(done.returncode, 0, done.stderr)
        machine = json.loads(done.stdout)
        made = mw.studies.variable_selection(
            mw.demo.load("flour_yield").frame,
            "flour",
            ["moisture", "cats", "rain"],
            g="n",
            prior=0.3,
            exclusive=[("cats", "rain")],
        ).fit()
        self.assertEqual(machine["inclusion"], made.record["inclusion"])
        formula = self.run_study(*call, "--candidates", "~ moisture * cats", "--prior", "cats=0.9")
        self.assertIn("moisture:cats", formula.stdout)
        wrong = self.run_study(*call, "--prior", "cats=x")
        self.assertIn("is here a probability", wrong.stderr)

    def test_candidates_of_counts(self):
        mills = mw.demo.load("flour_yield").frame[["cats", "moisture", "rain", "stone_age"]]
        mills.abs().round().astype(int).to_csv(self.folder / "cats.csv", index=False)
        call = ("variable-selection", "cats.csv", "--outcome", "cats", "--family", "poisson")
        own = ("--prior", "global_scale=half_cauchy(0.3)", "--region", 0.2, "--always", "rain")
        done = self.run_study(*call, *own, "--plan")
        self.assertEqual(done.returncode, 0, done.stderr)
        for words in ("half_cauchy(scale=0.3)", "beyond 0.2 on either side", "@ candidate_slope"):
            self.assertIn(words, done.stdout)
        for options, words in (
            (("--prior", "uniform"), "--family goes with"),
            (("--g", "n"), "--g is of linear regressions"),
            (("--prior", "uniform", "--prior", "horseshoe"), "one --prior of subsets"),
        ):
            refused = self.run_study(*call, *options)
            self.assertEqual((refused.returncode, refused.stdout), (2, ""))
            self.assertIn(words, refused.stderr)

    def test_several_series(self):
        mw.demo.load("flour_market").frame.tail(60).to_csv(self.folder / "m.csv", index=False)
        call = ("vector-autoregression", "m.csv", "--time", "month", "--draws", 600)
        own = ("--series", "flow", "--series", "price", "--constant", "level", "--ahead", 2)
        done = self.run_study(*call, *own, "--figure", "m.png", "--json")
        self.assertEqual(done.returncode, 0, done.stderr)
        machine = json.loads(done.stdout)
        self.assertEqual(machine["forecast"][0]["time"], "1941-01")
        self.assertEqual(len(machine["coefficients"]), 6)
        self.assertTrue((self.folder / "m.png").is_file())
        wrong = self.run_study("one-group", "m.csv", "--outcome", "flow", "--ahead", 3)
        self.assertIn("--ahead is for series", wrong.stderr)
        alone = ("series", "m.csv", "--outcome", "stock", "--time", "month", "--ahead", 3)
        one = self.run_study(*alone, "--parts", "level + season(12)", "--quiet", "--draws", 300)
        self.assertIn("Forecast of 3 steps", one.stdout)
        wrong = self.run_study(*alone, "--parts", "level + flow")
        self.assertIn("--ahead needs values of flow to come", wrong.stderr)
        wrong = self.run_study(*alone)
        self.assertIn("Say what it is made of", wrong.stderr)
        wrong = self.run_study(*call, "--drift", "-1")
        self.assertIn("`drift` must be a number above 0", wrong.stderr)

    def test_causal_graphs(self):
        (self.folder / "stones.txt").write_text(
            "demand -> hours, dressings\nhours, dressings -> wear\nheat -> wear\n"
        )
        pair = ("--effect-of", "hours", "--on", "wear")
        graph = ("--graph", "stones.txt")
        done = self.run_study("causal", *graph, *pair)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("Minimal sets to adjust for: `demand`; or `dressings`.", done.stdout)
        mw.demo.load("stone_wear").frame.to_csv(self.folder / "wear.csv", index=False)
        given = ("--given", "dressings", "--figure", "wear.png", "--report", "wear.html", "--json")
        done = self.run_study("causal", "wear.csv", *graph, *pair, *given)
        self.assertEqual(done.returncode, 0, done.stderr)
        machine = json.loads(done.stdout)
        self.assertEqual(machine["adjustment_sets"], [["demand"], ["dressings"]])
        self.assertGreater(machine["estimates"][0]["mean"], 0.5)
        self.assertTrue((self.folder / "wear.png").is_file())
        page = (self.folder / "wear.html").read_text("utf-8")
        self.assertIn("An effect by what was adjusted for", page)
        self.assertIn("The causal graph against the data", page)
        for options, words in (
            (("--on", "wear"), "both --effect-of and --on"),
            (("--direct",), "--direct goes with"),
            ((*pair, "--draws", "100"), "takes none of --chains, --draws"),
            (("--label", "mill"), "takes no --label"),
        ):
            with self.subTest(options=options):
                done = self.run_study("causal", *graph, *options)
                self.assertEqual((done.returncode, done.stdout), (2, ""))
                self.assertIn(words, done.stderr)

    def test_a_stored_study_is_told_and_reported_again(self):
        pair = ("river_days.csv", "--first", "rain", "--second", "level", "--save", "river")
        done = self.run_study("correlation", *pair, "--figure", "river.png")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertTrue((self.folder / "river.png").is_file())
        again = self.run_study("river")
        self.assertEqual(again.stdout, done.stdout)
        for command in ("summary", "convergence"):
            self.assertEqual(run_here(command, "river", cwd=self.folder).returncode, 0)
        page = run_here("report", "river", "--out", "page.html", cwd=self.folder)
        self.assertEqual(page.returncode, 0, page.stderr)
        self.assertIn("Question and answer", (self.folder / "page.html").read_text("utf-8"))
        shutil.rmtree(self.folder / "river/runs/normal")
        gone_on = self.run_study("river", "--quiet")
        self.assertEqual(gone_on.stdout, done.stdout)
        idle = self.run_study("river", "--width", 0.5)
        self.assertEqual((idle.returncode, idle.stdout), (2, ""))
        self.assertIn("leave --width out", idle.stderr)
        refused = self.run_study("correlation", *pair)
        self.assertEqual(refused.returncode, 2)
        self.assertIn("exists already", refused.stderr)

    def test_what_is_wrong_is_said(self):
        for words, arguments in (
            ("There is no study `grups`", ("grups", "yeasts.csv")),
            ("takes no --outcome", ("correlation", "yeasts.csv", "--outcome", "sank")),
            ("LOW to HIGH", ("proportions", *self.YEASTS, "--rope", "0.1")),
            ("Name the data file", ("proportions",)),
            ("NAME=PRIOR", ("proportions", *self.YEASTS, "--prior", "flat")),
            ("--width and --direction", ("correlation", "river_days.csv", "--prior", "a=b")),
        ):
            with self.subTest(words):
                done = self.run_study(*arguments)
                self.assertEqual(done.returncode, 2)
                self.assertIn(words, done.stderr)

    def test_the_starter_offers_studies(self):
        done = run_here("new", "yeasts.csv", cwd=self.folder)
        self.assertIn("millwright study proportions yeasts.csv --outcome sank", done.stderr)


if __name__ == "__main__":
    unittest.main()
