"""The code of the pages, run from top to bottom as a reader would; the numbers they tell."""

import contextlib
import io
import re
import tempfile
import tomllib
import unittest
from pathlib import Path

import millwright as mw

ROOT = Path(__file__).parent.parent


class Pages(unittest.TestCase):
    def run_code_of(self, page):
        """Run the Python of a page from top to bottom; return its names and what it printed."""
        blocks = re.findall(r"```python\n(.*?)```", (ROOT / page).read_text("utf-8"), re.S)
        code = "\n".join(blocks).replace("seed=7", "seed=7, progress=False")
        names, printed = {}, io.StringIO()
        with (
            contextlib.redirect_stdout(printed),
            tempfile.TemporaryDirectory() as folder,
            contextlib.chdir(folder),
        ):
            exec(compile(code, page, "exec"), names)
        return names, printed.getvalue()

    def test_code_of_the_readme_runs(self):
        names, _ = self.run_code_of("README.md")
        self.assertIsInstance(names["posterior"], mw.Posterior)

    def test_code_of_tutorial_and_cookbook_runs(self):
        _, printed = self.run_code_of("docs/tutorial.md")
        text = " ".join(printed.split())
        self.assertIn("90 % of the simulated values of `flour` lie between 20", text)
        self.assertIn("Verdict: Converged", text)
        self.assertIn("`by_furrow > 0` is 0.99", text)
        self.run_code_of("docs/cookbook.md")

    def test_code_of_the_other_pages_runs(self):
        names, _ = self.run_code_of("docs/sampling.md")
        self.assertEqual(names["again"].draws.shape, (4, 1500))
        self.assertEqual(names["longer"].draws.shape, (4, 1500))
        self.assertLess(abs(float(names["gate"]["opening"].mean()) - 12), 0.5)
        _, printed = self.run_code_of("docs/language.md")
        self.assertEqual(printed.strip(), "True")

    def test_code_of_the_pages_on_many_fits_and_on_weighing_runs(self):
        names, printed = self.run_code_of("docs/many-fits.md")
        self.assertTrue(names["fits"].good)
        for words in ("5 data sets: 5 converged", "No fault seen in 40", "with 40 rows wide"):
            self.assertIn(words, printed)
        names, printed = self.run_code_of("docs/weighing-models.md")
        for words in (
            "as probable under `line`",
            "Trusted.",
            "belongs in the model",
            "in advance",
            "sceptical",
        ):
            self.assertIn(words, printed)

    def test_code_of_the_pages_on_studies_runs(self):
        names, printed = self.run_code_of("docs/studies/README.md")
        self.assertTrue(names["findings"].verdict.good)
        self.assertIn("`south` is higher than `north`", printed)
        for page in ("groups", "proportions", "correlation", "regression"):
            names, _ = self.run_code_of(f"docs/studies/{page}.md")
            self.assertIn("mw", names)
        for key, page in (("two_groups", "groups"), ("regression", "regression")):
            sheet = (ROOT / f"docs/studies/{page}.md").read_text("utf-8")
            study = {
                "two_groups": lambda: mw.studies.two_groups(
                    mw.demo.load("sack_weights").frame, "weight", "spout"
                ),
                "regression": lambda: mw.studies.regression(
                    "moisture ~ hours", mw.demo.load("drying_loft").frame
                ),
            }[key]()
            block = tomllib.loads(re.search(r"```toml\n(.*?)```", sheet, re.S)[1])
            written = {d.name: d.text for d in study.model.specification.priors}
            self.assertEqual(block["priors"], written)

    def test_code_and_numbers_of_the_reading_page(self):
        names, printed = self.run_code_of("docs/reading-results.md")
        for words in (
            "`after_six_hours < 15.05` is 0.059",
            "only intervals up to 88.3 % exclude it",
            "drying: REJECT",
            "90 % of the simulated values of `moisture` lie between 7",
        ):
            self.assertIn(words, " ".join(printed.split()))
        times = names["posterior"].convergence_table()["integrated autocorrelation time"]
        self.assertAlmostEqual(times["start"], 3.1, delta=0.06)
        needed = names["posterior"].draws_needed("drying", within=0.001, quantile=0.025)
        self.assertGreater(needed["draws a chain needed"].iloc[0], 250)


if __name__ == "__main__":
    unittest.main()
