"""What a page says of repeating a fit gives the same draws."""

import shlex
import tempfile
import unittest
from pathlib import Path

import numpy as np
import pandas as pd

import millwright as mw
from millwright.reporting.repeating import repeating
from tests.cli.here import run_here

SHEET = """
[priors]
middle = "normal(0, 1)"
spread = "half_normal(1)"
effect = "normal(middle, spread) per mill"

[likelihood]
load = "normal(effect[mill], 1)"
"""


class Repeating(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.temporary = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.temporary.cleanup)
        cls.folder = Path(cls.temporary.name)
        generator = np.random.default_rng(4)
        cls.data = pd.DataFrame({"mill": np.repeat(list("ABCDEF"), 5)})
        cls.data["load"] = generator.normal(size=6).repeat(5) + generator.normal(size=30)
        cls.data.loc[3, "load"] = np.nan
        cls.data.to_csv(cls.folder / "data.csv", index=False)
        (cls.folder / "sheet.toml").write_text(SHEET)
        cls.model = mw.Model.read(cls.folder / "sheet.toml")

    def fit(self, **settings):
        return self.model.fit(
            self.data, seed=3, draws=40, warmup=60, missing="drop", progress=False, **settings
        )

    def called(self, code):
        """Run the line of Python in the folder of the sheet."""
        line = code.replace('"sheet.toml"', "sheet").replace(".fit(data,", ".fit(data, **quiet,")
        names = {
            "mw": mw,
            "data": self.data,
            "sheet": self.folder / "sheet.toml",
            "quiet": {"progress": False},
        }
        return eval(line, names)

    def test_the_call_and_the_command_give_the_same_draws(self):
        cases = {
            "usual": {},
            "smaller steps": {"target_acceptance": 0.95, "max_depth": 6, "metric": "dense"},
            "tempering": {"method": mw.Tempering(temperatures=3, steps=2)},
            "start": {"start": {"middle": 0.5, "effect": dict.fromkeys("ABCDEF", -0.25)}},
            "ensemble": {"method": mw.Ensemble(until_stationary=False, steps=2)},
            "grid": {"method": mw.LaplaceGrid(steps=2)},
        }
        for name, settings in cases.items():
            with self.subTest(name=name):
                fitted = self.fit(**settings)
                found = repeating(fitted)
                again = self.called(found.code)
                np.testing.assert_array_equal(again["effect"], fitted["effect"])
                place = self.folder / name
                words = shlex.split(found.command)[1:]
                done = run_here(*words, "--run", place, "-q", cwd=self.folder)
                self.assertIn(done.returncode, (0, 1), done.stderr)
                np.testing.assert_array_equal(mw.load(place)["effect"], fitted["effect"])

    def test_the_command_wins_over_settings_of_the_sheet(self):
        place = self.folder / "with settings.toml"
        settings = (
            'method = "tempering"\nmethod_settings = { temperatures = 3 }\n'
            'parameterisation = "centred"'
        )
        place.write_text(f"{SHEET}\n[fit]\n{settings}\ntarget_acceptance = 0.95\n")
        fitted = mw.Model.read(place).fit(
            self.data, seed=3, draws=40, warmup=60, missing="drop", progress=False
        )
        words = shlex.split(repeating(fitted).command)[2:]
        words = ["fit", place, *words[1:], "--run", self.folder / "won", "-q"]
        done = run_here(*words, cwd=self.folder)
        self.assertIn(done.returncode, (0, 1), done.stderr)
        again = mw.load(self.folder / "won")
        np.testing.assert_array_equal(again["effect"], fitted["effect"])

    def test_a_longer_fit_is_repeated_in_full(self):
        longer = self.fit().extend(20, progress=False)
        again = self.called(repeating(longer).code)
        np.testing.assert_array_equal(again["middle"], longer["middle"])

    def test_a_covariance_cannot_be_written_in_the_shell(self):
        fitted = self.fit(method=mw.RandomWalk(covariance=0.1 * np.eye(8)))
        found = repeating(fitted)
        self.assertEqual(found.command, "")
        np.testing.assert_array_equal(self.called(found.code)["middle"], fitted["middle"])

    def test_functions_of_ones_own_and_no_data(self):
        target = mw.Target(lambda x: -0.5 * x**2, {"x": "real"})
        fitted = target.fit(draws=30, warmup=50, progress=False, seed=3)
        found = repeating(fitted)
        self.assertEqual(found.command, "")
        self.assertNotIn("data", found.code)
        self.assertEqual(len(found.functions), 1)
        page = fitted.report(self.folder / "target.html").read_text("utf-8")
        self.assertIn("must be registered under", page)
        self.assertIn("uses no columns of data", page)

    def test_draws_of_another_program_cannot_be_repeated(self):
        place = self.folder / "draws.csv"
        mw.export_draws(self.fit(), place)
        other = mw.read_draws(place)
        self.assertEqual((repeating(other).code, repeating(other).command), ("", ""))
        page = other.report(self.folder / "other.html").read_text("utf-8")
        self.assertIn("not made by a fit that a line here could repeat", page)


if __name__ == "__main__":
    unittest.main()
