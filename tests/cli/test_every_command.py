"""Every command once well and once badly; the fit in a process of its own, as users start it."""

import json
import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from tests.cli.here import run_here, write_loft
from tests.cli.test_commands import SHEET

INSTALLED = Path(sys.executable).with_name("millwright")


class EveryCommand(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.temporary = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.temporary.cleanup)
        cls.folder = Path(cls.temporary.name)
        write_loft(cls.folder)
        fit = ("fit", SHEET, "loft.csv", "--run", "Läufe 1", "--seed", 7, "--draws", 700)
        cls.fitted = subprocess.run(
            [INSTALLED, *map(str, fit)], capture_output=True, text=True, cwd=cls.folder
        )

    def test_good_calls(self):
        self.assertEqual(self.fitted.returncode, 0, self.fitted.stderr)
        calls = {
            ("demo", "list"): "drying",
            ("new", "loft.csv"): "loft.toml",
            ("check", SHEET, "loft.csv", "--json"): "finite",
            ("simulate", SHEET, "loft.csv", "--draws", 20, "--json"): "moisture, mean",
            ("resume", "Läufe 1", "--json", "-q"): "verdict",
            ("convergence", "Läufe 1", "--json"): "findings",
            ("summary", "Läufe 1", "--json"): "table",
            ("plot", "Läufe 1", "trace"): "trace.png",
            ("predict", "Läufe 1", "new.csv", "--json"): "mean",
            ("compare", "Läufe 1", "Läufe 1", "--json"): "leave_one_out",
            ("report", "Läufe 1"): "Läufe 1.html",
            ("export", "Läufe 1", "draws.csv"): "draws.csv",
        }
        # Processes of their own are started in `test_commands`; here what comes out counts.
        for call in calls:
            done = run_here(*call, cwd=self.folder)
            with self.subTest(call=call[0]):
                self.assertEqual(done.returncode, 0, done.stderr)
                self.assertIn(calls[call], done.stdout)
                if "--json" in call:
                    json.loads(done.stdout)
        longer = run_here("extend", "Läufe 1", 20, "--json", "-q", cwd=self.folder)
        self.assertEqual(longer.returncode, 0, longer.stderr)
        self.assertEqual(json.loads(longer.stdout)["settings"]["draws"], 720)
        self.assertNotIn("\x1b", self.fitted.stdout + self.fitted.stderr)

    def test_bad_calls(self):
        calls = {
            ("demo", "lofts"): "no demo",
            ("new", "none.csv"): "no data file",
            ("check", "none.toml", "loft.csv"): "no model sheet",
            ("simulate", SHEET, "loft.csv", "--draws", 0): "`draws` must be",
            ("fit", SHEET, "loft.csv", "--setting", "temperatures"): "NAME=VALUE",
            ("resume", "nowhere"): "not a stored run",
            ("extend", "nowhere", 10): "not a stored run",
            ("convergence", "loft.csv"): "not a stored run",
            ("summary", "Läufe 1", "--level", 2): "`level` must be",
            ("plot", "Läufe 1", "traces"): "Did you mean `trace`",
            ("predict", "Läufe 1", "loft.toml"): "",
            ("compare", "Läufe 1"): "",
            ("report", "Läufe 1", "--rope", "drying"): "--rope is written as",
            ("export", "Läufe 1", "draws.doc"): ".csv",
            ("fits",): "",
        }
        # The good calls have shown that each command starts; what is refused is shown here.
        for call in calls:
            done = run_here(*call, cwd=self.folder)
            with self.subTest(call=call):
                self.assertEqual(done.returncode, 2, done.stdout)
                self.assertEqual(done.stdout, "")
                self.assertIn(calls[call], done.stderr)
                self.assertNotIn("Traceback", done.stderr)
                self.assertLessEqual(len(done.stderr.strip().split("\n")), 6)

    @unittest.skipIf(os.name != "posix", "links of this kind only exist there")
    def test_a_disk_that_is_full(self):
        """/dev/full refuses every byte."""
        if not Path("/dev/full").exists():
            self.skipTest("there is no such device")
        for name in ("full.csv", "full.json", "full.md"):
            place = self.folder / name
            place.symlink_to("/dev/full")
            table = ["--table"] if name.endswith("md") else []
            call = ("export", "Läufe 1", place, *table, "--replace")
            with self.subTest(name=name):
                done = run_here(*call, cwd=self.folder)
                self.assertEqual(done.returncode, 2, done.stdout)
                self.assertIn("No space left", done.stderr)
                self.assertLessEqual(done.stderr.count("\n"), 5)

    def test_a_folder_that_cannot_be_written(self):
        """In /sys nobody, not even root, can make a file."""
        place = Path("/sys")
        if not place.is_dir():
            self.skipTest("there is no such folder")
        calls = (
            ("export", "Läufe 1", place / "draws.zip"),
            ("report", "Läufe 1", "--out", place / "page.html"),
            ("plot", "Läufe 1", "trace", "--out", place / "trace.png"),
            ("new", "loft.csv", "--out", place / "sheet.toml"),
            ("fit", SHEET, "loft.csv", "--run", place / "run", "--quiet"),
            ("predict", "Läufe 1", "new.csv", "--out", place / "table.csv"),
        )
        for call in calls:
            with self.subTest(call=call[0]):
                done = run_here(*call, cwd=self.folder)
                self.assertEqual(done.returncode, 2, done.stdout)
                self.assertRegex(done.stderr, r"cannot be written.*: \w+ ?\w+ ?\w+\.\n$")


if __name__ == "__main__":
    unittest.main()
