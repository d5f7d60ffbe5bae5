"""The installed command in a subprocess: good and bad calls, exit status, streams."""

import json
import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

import pandas as pd

import millwright as mw
from tests.cli.here import run_here

SHEET = mw.demo.sheet_path("drying.toml")
COMMAND = [sys.executable, "-c", "from millwright.cli.app import main; main()"]


def run(*arguments, cwd=None):
    return subprocess.run(
        [*COMMAND, *map(str, arguments)], capture_output=True, text=True, cwd=cwd, timeout=300
    )


class Commands(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.temporary = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.temporary.cleanup)
        cls.folder = Path(cls.temporary.name)
        cls.data = cls.folder / "drying loft ü.csv"
        mw.demo.load("drying_loft").frame.to_csv(cls.data, index=False)
        cls.fitted = run("fit", SHEET, cls.data, "--seed", 7, "--run", cls.folder / "run")

    def test_fit_prints_results_and_keeps_messages_apart(self):
        self.assertEqual(self.fitted.returncode, 0, self.fitted.stderr)
        self.assertTrue(self.fitted.stdout.startswith("Verdict: Converged"))
        self.assertIn("Sampled: 100 %", self.fitted.stderr)
        self.assertIn("Run stored", self.fitted.stderr)

    def test_summary_shows_model_verdict_and_table(self):
        shown = run_here("summary", self.folder / "run", "--hdi", "--level", "0.9")
        self.assertEqual(shown.returncode, 0)
        for words in ("normal(location=18, scale=3)", "Verdict", "90 % HDI"):
            self.assertIn(words, shown.stdout)
        machine = json.loads(run_here("summary", self.folder / "run", "--json").stdout)
        self.assertTrue(machine["verdict"]["good"])
        self.assertAlmostEqual(machine["table"]["drying"]["mean"], -0.55, delta=0.1)

    def test_vet_samples_nothing_and_prints_every_prior(self):
        shown = run_here("check", SHEET, self.data)
        self.assertEqual(shown.returncode, 0)
        self.assertIn("exponential(rate=1)", shown.stdout)
        self.assertIn("finite at 100 %", shown.stdout)
        self.assertEqual(
            json.loads(run_here("check", SHEET, self.data, "--json").stdout)["rows"], {"row": 20}
        )

    def test_vet_names_likely_troubles(self):
        frame = pd.read_csv(self.data)
        frame["hours"] += 1000
        frame.to_csv(self.folder / "far.csv", index=False)
        shown = run_here("check", SHEET, self.folder / "far.csv")
        self.assertIn("Mind: the values of `hours` lie far from zero", shown.stdout)
        clean = json.loads(run_here("check", SHEET, self.data, "--json").stdout)
        self.assertEqual(clean["troubles"], [])

    def test_default_run_folder_is_named_after_the_sheet_and_not_overwritten(self):
        fit = ("fit", SHEET, self.data, "--draws", 50, "--warmup", 50, "--quiet", "--json")
        first = run_here(*fit, cwd=self.folder)
        self.assertIn(first.returncode, (0, 1))
        self.assertEqual(json.loads(first.stdout)["settings"]["draws"], 50)
        self.assertTrue((self.folder / "drying-run" / "run.json").is_file())
        again = run_here(*fit, cwd=self.folder)
        self.assertEqual(again.returncode, 2)
        self.assertIn("exists already", again.stderr)
        self.assertNotEqual(run_here(*fit, "--replace", cwd=self.folder).returncode, 2)

    def test_not_converged_is_exit_status_1(self):
        short = run_here(
            "fit", SHEET, self.data, "--draws", 5, "--warmup", 5, "--run", self.folder / "short"
        )
        self.assertEqual(short.returncode, 1)
        self.assertIn("NOT CONVERGED", short.stdout)

    def test_bad_input_is_exit_status_2_with_a_short_message(self):
        bad_sheet = self.folder / "bad.toml"
        bad_sheet.write_text(SHEET.read_text().replace("hours", "hourz"))
        bad_data = self.folder / "bad.csv"
        frame = pd.read_csv(self.data)
        frame.loc[3, "hours"] = None
        frame.to_csv(bad_data, index=False)
        cases = {
            "Did you mean `hours`": ("fit", bad_sheet, self.data),
            "row 4": ("check", SHEET, bad_data),
            "no model sheet": ("fit", self.folder / "none.toml", self.data),
            "no data file": ("fit", SHEET, self.folder / "none.csv"),
            "not a stored run": ("summary", self.folder),
            "`chains` must be": ("fit", SHEET, self.data, "--chains", 0),
        }
        for number, (words, arguments) in enumerate(cases.items()):
            with self.subTest(words=words):
                done = run_here(*arguments) if number else run(*arguments)
                self.assertEqual(done.returncode, 2)
                self.assertIn(words, done.stderr)
                self.assertEqual(done.stdout, "")
                self.assertLessEqual(len(done.stderr.strip().split("\n")), 5)

    def test_rows_without_an_outcome_are_dropped_on_request(self):
        gaps = self.folder / "gaps.csv"
        frame = pd.read_csv(self.data)
        frame.loc[[2, 5], "moisture"] = None
        frame.to_csv(gaps, index=False)
        fit = ("fit", SHEET, gaps, "--draws", 400, "--warmup", 400, "--run", self.folder / "gaps")
        refused = run_here(*fit)
        self.assertEqual(refused.returncode, 2)
        self.assertIn("--missing drop", refused.stderr)
        dropped = run_here(*fit, "--missing", "drop")
        self.assertIn("Rows dropped because `moisture` was missing: 2.", dropped.stdout)

    def test_ctrl_c_is_exit_status_130_and_the_run_goes_on(self):
        # Where tests run in the background, Ctrl-C is ignored by them and what they start.
        before = signal.signal(signal.SIGINT, signal.default_int_handler)
        self.addCleanup(signal.signal, signal.SIGINT, before)
        place = self.folder / "long"
        call = ["fit", SHEET, self.data, "--draws", 10_000, "--run", place, "--quiet"]
        process = subprocess.Popen(
            [*COMMAND, *map(str, call)],
            stderr=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
        )
        until = time.monotonic() + 60
        while not list(place.glob("state/unit-*")) and time.monotonic() < until:
            time.sleep(0.05)
        os.kill(process.pid, signal.SIGINT)
        _, messages = process.communicate(timeout=60)
        self.assertEqual(process.returncode, 130)
        self.assertIn(f"millwright resume {place}", messages)
        done = run("resume", place, "--quiet")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("4 chains of 10000 draws", done.stdout)

    def test_extend_adds_draws(self):
        place = self.folder / "grows"
        run_here("fit", SHEET, self.data, "--draws", 300, "--run", place, "--quiet")
        longer = run_here("extend", place, 200, "--quiet", "--json")
        self.assertEqual(json.loads(longer.stdout)["settings"]["draws"], 500)
        self.assertEqual(run_here("extend", place, 0).returncode, 2)
        self.assertEqual(run_here("resume", self.folder / "nowhere").returncode, 2)

    def test_vet_checks_workers(self):
        shown = run("check", SHEET, self.data, "--workers", 1)
        self.assertIn("Worker processes that can evaluate the model: 1", shown.stdout)
        self.assertEqual(run_here("check", SHEET, self.data, "--workers", 0).returncode, 2)

    def test_demo_walks_nine_steps_and_writes_figures(self):
        folder = self.folder / "figures"
        done = run_here("demo", "--folder", folder, "--quiet")
        self.assertEqual(done.returncode, 0, done.stderr)
        for step in range(1, 10):
            self.assertIn(f"\n{step}  ", done.stdout)
        self.assertEqual(len(list(folder.glob("*.png"))), 10)
        self.assertNotIn("(outside)", done.stdout)
        self.assertIn("REJECT", (folder / "9-report.html").read_text("utf-8"))

    def test_the_other_demo_and_the_list(self):
        done = run_here("demo", "yeasts", "--folder", self.folder / "yeasts", "--quiet")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("share of the posterior below", done.stdout.lower())
        self.assertNotIn("(outside)", done.stdout)
        self.assertIn("yeasts", run_here("demo", "list").stdout)
        self.assertIn("Did you mean `drying`", run_here("demo", "dryin").stderr)

    def test_help_and_version(self):
        done = run("--help")
        for command in ("demo", "check", "fit", "resume", "extend", "summary"):
            self.assertIn(command, done.stdout)
        self.assertIn(mw.__version__, run("--version").stdout)

    def test_help_loads_nothing_heavy(self):
        code = (
            "import sys; from millwright.cli.app import app; "
            "print([m for m in ('jax', 'numpy', 'pandas', 'scipy') if m in sys.modules])"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        self.assertEqual(done.stdout.strip(), "[]")


if __name__ == "__main__":
    unittest.main()
