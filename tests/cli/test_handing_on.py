"""Commands that look at runs, predict and hand results on; the fit is in a process of its own."""

import io
import json
import shutil
import subprocess
import sys
import tempfile
import tomllib
import unittest
from html.parser import HTMLParser
from pathlib import Path

import numpy as np
import pandas as pd
import xarray as xr

import millwright as mw
from tests.cli.here import run_here, write_loft
from tests.cli.test_commands import SHEET, run

HEAVY = ("jax", "numpy", "pandas", "scipy", "matplotlib")


class HandingOn(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.temporary = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.temporary.cleanup)
        cls.folder = Path(cls.temporary.name)
        write_loft(cls.folder)
        cls.data = cls.folder / "loft.csv"
        cls.sheet = cls.folder / "drying.toml"
        cls.sheet.write_text(f"{SHEET.read_text()}\n[fit]\nseed = 7\ndraws = 800\n")
        # Names without endings, settings from the sheet.
        cls.fitted = run("fit", "drying", "loft", "--quiet", "--json", cwd=cls.folder)
        cls.place = cls.folder / "drying-run"

    def test_settings_of_the_sheet_and_names_without_endings(self):
        record = json.loads(self.fitted.stdout)
        self.assertEqual((record["seed"], record["settings"]["draws"]), (7, 800))

    def test_data_on_standard_input_and_in_other_formats(self):
        frame = pd.read_csv(self.data)
        frame.to_excel(self.folder / "excel.xlsx", index=False)
        frame.to_parquet(self.folder / "columns.parquet")
        frame.to_json(self.folder / "rows.json", orient="records")
        calls = [("-", self.data.read_text()), *((n, "") for n in ("excel", "columns", "rows"))]
        for name, text in calls:
            with self.subTest(name=name):
                call = ("simulate", "drying", name, "--draws", "20", "--json")
                done = run_here(*call, cwd=self.folder, text=text)
                self.assertEqual(done.returncode, 0, done.stderr)
                self.assertIn("moisture, mean", json.loads(done.stdout))
        frame.to_csv(self.folder / "rows.csv", index=False)
        done = run_here("simulate", "drying", "rows", cwd=self.folder)
        self.assertEqual(done.returncode, 2)
        self.assertIn("any of rows.csv, rows.json", done.stderr)

    def test_simulate_holds_values_and_draws_the_prior(self):
        call = ("simulate", "drying", "loft", "--draws", 30)
        held = ("--given", "drying=0", "--given", "noise=0.001", "--out", "fake.csv")
        done = run_here(*call, *held, cwd=self.folder)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertLess(pd.read_csv(self.folder / "fake.csv")["moisture"].std(), 0.01)
        figures = ("--figure", "prior_densities", "--figure", "prior_lines", "--along", "hours")
        done = run_here(*call, *figures, cwd=self.folder)
        self.assertIn("Written: drying-prior_lines.png", done.stderr)
        picture = (self.folder / "drying-prior_densities.png").read_bytes()
        self.assertEqual(picture[:4], b"\x89PNG")
        for bad, words in (
            (("--figure", "prior_data", "--figure", "prior_densities"), "exists already"),
            (("--figure", "prior"), "There is no figure"),
            (("--figure", "prior_lines", "--replace"), "--along hours"),
            (("--given", "drying=fast"), "must be a number"),
            (("--given", "dry=2"), "Did you mean `drying`"),
        ):
            with self.subTest(bad=bad):
                done = run_here(*call, *bad, cwd=self.folder)
                self.assertEqual(done.returncode, 2)
                self.assertIn(words, done.stderr)

    def test_convergence_and_summary(self):
        found = json.loads(run_here("convergence", self.place, "--json").stdout)
        self.assertTrue(found["good"])
        self.assertIn("monte_carlo_error_of_97_5_percent_quantile", found["numbers"]["drying"])
        table = run_here("summary", self.place, "--form", "csv", "--name", "drying / noise").stdout
        self.assertEqual(pd.read_csv(io.StringIO(table))["quantity"][0], "drying / noise")

    def test_plot(self):
        for name, more in (
            ("trace", ()),
            ("fitted_line", ("--along", "hours")),
            ("predictive_check", ("--show", "rows")),
        ):
            with self.subTest(name=name):
                done = run_here("plot", self.place, name, *more, cwd=self.folder)
                self.assertEqual(done.returncode, 0, done.stderr)
                picture = self.folder / done.stdout.strip()
                self.assertEqual(picture.read_bytes()[:4], b"\x89PNG")
        again = run_here("plot", self.place, "trace", cwd=self.folder)
        self.assertIn("exists already", again.stderr)

    def test_predict_and_compare(self):
        table = json.loads(
            run_here("predict", self.place, self.folder / "new.csv", "--json").stdout
        )
        self.assertEqual(len(table), 10)
        self.assertEqual(table[0]["interval_level"], 0.95)
        self.assertLess(table[0]["interval_low"], table[0]["interval_high"])
        scored = run_here("predict", self.place, self.folder / "new.csv", "--score")
        self.assertIn("root-mean-square error", scored.stdout)
        compared = run_here("compare", self.place, self.place, "--json")
        found = json.loads(compared.stdout)
        self.assertEqual(set(found["leave_one_out"]), {"drying-run", "drying-run (2)"})
        self.assertEqual(run_here("compare", self.place).returncode, 2)

    def test_labels_that_differ_by_their_signs_alone_stay_apart(self):
        data = "kind\n" + "\n".join(["Good", "good", "$5", "5"] * 5)
        (self.folder / "kinds.csv").write_text(data)
        (self.folder / "kinds.toml").write_text(
            '[priors]\nc = "normal(0, 1) per kind"\n'
            '[likelihood]\nkind = "categorical(log_odds=c)"\n'
        )
        run_here(
            *("fit", "kinds.toml", "kinds.csv", "--run", "kinds", "--trial", "-q"),
            cwd=self.folder,
        )
        done = run_here("predict", "kinds", "kinds.csv", "--json", cwd=self.folder)
        first = json.loads(done.stdout)[0]
        shares = [first[f"P({label})"] for label in ("Good", "good", "$5", "5")]
        self.assertAlmostEqual(sum(shares), 1.0, places=6)

    def test_report_is_one_page_that_needs_nothing_else(self):
        page = self.folder / "page.html"
        call = ("report", self.place, "--out", page, "--rope", "drying: -0.05 to 0.05")
        done = run_here(*call, "--statement", "drying < 0")
        self.assertEqual(done.returncode, 0, done.stderr)
        seen = Seen()
        seen.feed(page.read_text("utf-8"))
        self.assertEqual(seen.headings, list(range(1, 10)))
        self.assertTrue(all(s.startswith("data:image/png;base64,") for s in seen.pictures))
        self.assertGreaterEqual(len(seen.pictures), 8)
        self.assertTrue(all(seen.alternatives))
        self.assertNotIn("script", seen.tags)
        for words in ("drying: REJECT", "exponential(rate=1)", "--seed 7", "[likelihood]"):
            self.assertIn(words, page.read_text("utf-8"))
        self.assertEqual(run_here(*call).returncode, 2)
        self.assertEqual(
            run_here("report", self.place, "--rope", "drying 3", "--replace").returncode, 2
        )

    def test_exports_are_read_by_other_programs(self):
        draws = mw.load(self.place).to_dataframe()
        readers = {
            "csv": pd.read_csv,
            "parquet": pd.read_parquet,
            "json": pd.read_json,
            "nc": lambda path: xr.load_dataset(path, engine="scipy").to_dataframe(),
        }
        for ending, read in readers.items():
            with self.subTest(ending=ending):
                done = run_here("export", self.place, self.folder / f"draws.{ending}")
                self.assertEqual(done.returncode, 0, done.stderr)
                found = read(self.folder / f"draws.{ending}")
                np.testing.assert_allclose(found["drying"], draws["drying"], rtol=1e-9)
                self.assertEqual(int(found["chain"].max()), 4)
        for ending in ("xlsx", "tex"):
            done = run_here("export", self.place, self.folder / f"table.{ending}", "--table")
            self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(
            list(pd.read_excel(self.folder / "table.xlsx")["quantity"]), list(draws.columns[2:])
        )
        self.assertEqual(run_here("export", self.place, self.folder / "draws.doc").returncode, 2)

    def test_a_packed_run_loads_elsewhere(self):
        packed = self.folder / "whole.zip"
        self.assertEqual(run_here("export", self.place, packed).returncode, 0)
        here, there = mw.load(self.place), mw.load(packed)
        np.testing.assert_array_equal(here["drying"].values, there["drying"].values)
        self.assertEqual(str(here.verdict), str(there.verdict))
        (self.folder / "broken.zip").write_bytes(packed.read_bytes()[:500])
        with self.assertRaises(mw.errors.StorageError):
            mw.load(self.folder / "broken.zip")

    def test_damaged_runs_are_told_in_a_few_lines(self):
        files = [f.relative_to(self.place) for f in self.place.rglob("*") if f.is_file()]
        self.assertGreater(len(files), 10)
        for file in files:
            for damage in (None, b"scrambled"):
                with self.subTest(file=str(file), damage=damage):
                    copy = self.folder / "copy"
                    shutil.copytree(self.place, copy)
                    if damage is None:
                        (copy / file).unlink()
                    else:
                        (copy / file).write_bytes(damage)
                    done = run_here("summary", copy)
                    shutil.rmtree(copy)
                    self.assertIn(done.returncode, (0, 1, 2))
                    if done.returncode == 2:
                        self.assertTrue(done.stderr.startswith("Error: "))
                        self.assertLessEqual(done.stderr.count("\n"), 5)
                    else:
                        self.assertIn("95 % central interval", done.stdout)

    def test_new_writes_a_sheet_that_can_be_fitted(self):
        frame = pd.read_csv(self.data)
        frame["Moisture (%)"] = frame.pop("moisture")
        frame["mill"] = ["Upper", "Lower"] * 10
        frame.to_csv(self.folder / "odd names.csv", index=False)
        made = run_here("new", "odd names", "--outcome", "Moisture (%)", cwd=self.folder)
        self.assertEqual(made.returncode, 0, made.stderr)
        place = self.folder / "odd names.toml"
        self.assertIn("#", place.read_text())
        self.assertEqual(tomllib.loads(place.read_text())["columns"], {"Moisture": "Moisture (%)"})
        done = run_here("check", place, self.folder / "odd names.csv")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("per mill", done.stdout)

    def test_new_takes_the_kind_of_outcome_into_account(self):
        rows = range(1, 13)
        for outcome, words in (
            ([0, 1] * 6, "bernoulli(log_odds=base + by_heat"),
            ([3, 0, 5, 1] * 3, "negative_binomial(mean=exp(base + by_heat"),
            ([2.5, 3.0, 1.5] * 4, "normal(base + by_heat"),
        ):
            with self.subTest(words=words):
                table = {"loaf": rows, "heat": [200, 220, 240] * 4, "burnt": outcome}
                pd.DataFrame(table).to_csv(self.folder / "loaves.csv", index=False)
                run_here("new", "loaves", "--replace", cwd=self.folder)
                text = (self.folder / "loaves.toml").read_text()
                self.assertIn(words, tomllib.loads(text)["likelihood"]["burnt"])
                self.assertIn("number the rows, or have too many labels: 'loaf'", text)
                done = run_here("check", "loaves", "loaves", cwd=self.folder)
                self.assertEqual(done.returncode, 0, done.stderr)
                self.assertNotIn("Mind: the values of `heat`", done.stdout)

    def test_bad_settings_in_a_sheet(self):
        for line, words in (
            ("drawz = 3", "Did you mean `draws`"),
            ("draws = 'x'", "whole number"),
        ):
            bad = self.folder / "bad.toml"
            bad.write_text(f"{SHEET.read_text()}\n[fit]\n{line}\n")
            done = run_here("fit", bad, self.data, "--run", self.folder / "never")
            self.assertEqual(done.returncode, 2)
            self.assertIn(words, done.stderr)
            self.assertFalse((self.folder / "never").exists())


class Seen(HTMLParser):
    def __init__(self):
        super().__init__()
        self.tags, self.pictures, self.alternatives, self.headings = set(), [], [], []

    def handle_starttag(self, tag, attrs):
        self.tags.add(tag)
        given = dict(attrs)
        if tag == "img":
            self.pictures.append(given["src"])
            self.alternatives.append(given["alt"])
        if tag == "h2":
            self.headings.append(int(given["id"].removeprefix("part-")))


class NothingIsMarkup(unittest.TestCase):
    def test_results_show_themselves_in_notebooks_as_text(self):
        model = mw.Model(
            title="<b>", priors={"x": "normal(0, 1)"}, likelihood={"y": "normal(x, 1)"}
        )
        posterior = model.fit({"y": [0.3, 1.0]}, draws=60, warmup=60, progress=False)
        for result in (
            model,
            posterior,
            posterior.verdict,
            posterior.probability("x < 0"),
            posterior.decide("x", null=0),
            posterior.predictive_check(),
            posterior.predict(rows=2),
            posterior.leave_one_out(),
            model.simulate(rows=2),
        ):
            with self.subTest(result=type(result).__name__):
                shown = result._repr_html_()
                self.assertTrue("<pre>" in shown or "<strong>Verdict" in shown)
                self.assertNotIn("<b>", shown)

    def test_labels_and_titles_are_shown_as_text(self):
        label = "<script>alert('mill')</script>"
        model = mw.Model(
            title="<b>bold</b> & <script>alert(1)</script>",
            notes="{{ 7 * 7 }}",
            priors={"effect": "normal(0, 1) per stone"},
            likelihood={"y": "normal(effect[stone], 1)"},
        )
        data = {"stone": [label, "plain"] * 4, "y": np.arange(8.0) / 8}
        posterior = model.fit(data, draws=60, warmup=60, progress=False)
        with tempfile.TemporaryDirectory() as folder:
            page = mw.report(posterior, Path(folder) / "page.html").read_text("utf-8")
        seen = Seen()
        seen.feed(page)
        self.assertNotIn("script", seen.tags)
        self.assertNotIn("b", seen.tags)
        self.assertIn("{{ 7 * 7 }}", page)
        self.assertNotIn("<script", page)

    def test_starter_priors_lie_where_the_rows_are(self):
        with tempfile.TemporaryDirectory() as folder:
            rows = [{"level": 10234.5 + 0.3 * (k % 5), "flow": 5000 + k**2 % 7} for k in range(12)]
            pd.DataFrame(rows).to_csv(Path(folder) / "far.csv", index=False)
            done = run_here("new", "far.csv", "--outcome", "level", cwd=folder)
            self.assertEqual(done.returncode, 0, done.stderr)
            model = mw.Model.read(Path(folder) / "far.toml")
            text = model.describe()
            self.assertIn("base ~ normal(location=10235.025,", text)
            self.assertIn("10233.36 to 10236.69", text)

    def test_help_of_every_command_loads_nothing_heavy(self):
        code = (
            "import sys; from millwright.cli.app import app; "
            f"print([m for m in {HEAVY} if m in sys.modules], len(app.registered_commands))"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        self.assertEqual(done.stdout.strip(), "[] 17")


if __name__ == "__main__":
    unittest.main()
