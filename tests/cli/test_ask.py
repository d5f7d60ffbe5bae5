"""Questions put to a stored run from the shell."""

import json
import tempfile
import unittest
from pathlib import Path
from typing import get_args

from millwright.plots.predictive import View
from tests.cli.here import run_here, write_loft
from tests.cli.test_commands import SHEET


class Ask(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.temporary = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.temporary.cleanup)
        cls.folder = Path(cls.temporary.name)
        write_loft(cls.folder)
        done = run_here("fit", SHEET, "loft.csv", "--run", "a", "--seed", 7, cwd=cls.folder)
        assert done.returncode == 0, done.stderr

    def ask(self, *questions):
        return run_here("ask", "a", *questions, cwd=self.folder)

    def test_a_statement_a_region_and_a_value(self):
        done = self.ask("drying < 0", "drying: -0.05 to 0.05", "drying: 0")
        self.assertEqual(done.returncode, 0, done.stderr)
        for words in (
            "probability of `drying < 0`",
            "-0.05 to 0.05",
            "REJECT the region",
            "One-sided",
        ):
            self.assertIn(words, done.stdout)

    def test_plain_values(self):
        told = json.loads(self.ask("drying < 0", "drying: -0.05 to 0.05", "--json").stdout)
        self.assertGreater(told["drying < 0"]["probability"], 0.9)
        shares = told["drying: -0.05 to 0.05"]["drying"]
        total = shares["below"] + shares["inside"] + shares["above"]
        self.assertAlmostEqual(total, 1.0)

    def test_bad_questions(self):
        for questions in (
            (),
            ("nothing > 0",),
            ("drying: 1 to 0",),
            ("--against", "x"),
            ("drying",),
        ):
            with self.subTest(questions=questions):
                done = self.ask(*questions)
                self.assertNotEqual(done.returncode, 0)
                self.assertNotIn("Traceback", done.stderr)
                self.assertTrue(done.stderr.strip())

    def test_every_view_of_a_check_is_offered(self):
        done = run_here("plot", "--help")
        for view in get_args(View):
            self.assertIn(view, done.stdout)


if __name__ == "__main__":
    unittest.main()
