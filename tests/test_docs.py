"""Pages that are made from the code are current; links and code in pages work."""

import contextlib
import importlib.util
import io
import json
import re
import tempfile
import tomllib
import unittest
from pathlib import Path

import jsonschema

import millwright as mw
from millwright.distributions.family import Family
from millwright.distributions.registry import DISTRIBUTIONS

ROOT = Path(__file__).parent.parent


class Docs(unittest.TestCase):
    def script(self, name):
        spec = importlib.util.spec_from_file_location(name, ROOT / "docs" / f"{name}.py")
        module = importlib.util.module_from_spec(spec)
        spec.loader.exec_module(module)
        return module

    def test_every_distribution_of_numbers_is_on_the_sheet_of_shapes(self):
        numbers = {name for name, family in DISTRIBUTIONS.items() if isinstance(family, Family)}
        self.assertEqual(set(self.script("shapes").SHAPES), numbers)

    def test_language_page_is_what_the_code_gives(self):
        generate = self.script("generate")
        self.assertEqual(generate.PAGE.read_text("utf-8"), generate.page())

    def test_command_page_and_schema_are_what_the_code_gives(self):
        commands = self.script("commands")
        self.assertEqual(commands.PAGE.read_text("utf-8"), commands.page())
        self.assertEqual(commands.SCHEMA.read_text("utf-8"), commands.schema())

    def test_schema_takes_good_sheets_and_refuses_others(self):
        schema = json.loads(self.script("commands").schema())
        jsonschema.Draft202012Validator.check_schema(schema)
        sheets = list((ROOT / "src/millwright/demo/sheets").glob("*.toml"))
        self.assertGreaterEqual(len(sheets), 3)
        good = tomllib.loads(sheets[0].read_text("utf-8"))
        for sheet in sheets:
            jsonschema.validate(tomllib.loads(sheet.read_text("utf-8")), schema)
        jsonschema.validate({**good, "fit": {"draws": 10, "method": "tempering"}}, schema)
        bad = ({"prior": {}}, {"fit": {"drawz": 1}}, {"fit": {"seed": -1}}, {"title": 3})
        for part in bad:
            with self.subTest(part=part), self.assertRaises(jsonschema.ValidationError):
                jsonschema.validate({**good, **part}, schema)

    def test_links_lead_somewhere(self):
        for page in [
            *ROOT.glob("*.md"),
            *ROOT.glob("docs/**/*.md"),
            *ROOT.glob("benchmarks/*.md"),
        ]:
            for link in re.findall(r"\]\(([^)#:]+)\)", page.read_text("utf-8")):
                self.assertTrue((page.parent / link).exists(), f"{page.name}: {link}")

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
        self.assertIn("`by_furrow > 0` is 0.98", text)
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
            "`after_six_hours < 15.05` is 0.058",
            "only intervals up to 88.4 % exclude it",
            "drying: REJECT",
            "90 % of the simulated values of `moisture` lie between 7",
        ):
            self.assertIn(words, " ".join(printed.split()))
        times = names["posterior"].convergence_table()["integrated autocorrelation time"]
        self.assertAlmostEqual(times["start"], 2.7, delta=0.06)
        needed = names["posterior"].draws_needed("drying", within=0.001, quantile=0.025)
        self.assertGreater(needed["draws a chain needed"].iloc[0], 250)


if __name__ == "__main__":
    unittest.main()
