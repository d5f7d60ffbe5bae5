"""The commands that weigh models, ask for Bayes factors, and fit many data sets."""

import json
import shutil
import tempfile
import unittest
from pathlib import Path

import millwright as mw
from tests.cli.here import run_here
from tests.fits import flat, straight


class Weighing(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        temporary = tempfile.TemporaryDirectory()
        cls.addClassCleanup(temporary.cleanup)
        cls.folder = Path(temporary.name)
        straight().save(cls.folder / "line")
        flat().save(cls.folder / "flat")
        frame = mw.demo.load("drying_loft").frame
        frame["loft"] = ["North", "South"] * (len(frame) // 2) + ["North"] * (len(frame) % 2)
        frame.to_csv(cls.folder / "loft.csv", index=False)
        shutil.copy(mw.demo.sheet_path("drying.toml"), cls.folder)

    def here(self, *arguments):
        return run_here(*arguments, cwd=self.folder)

    def test_comparison_by_evidence(self):
        done = self.here("compare", "line", "flat", "--by", "evidence")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("as probable under `line` as under `flat`", done.stdout)
        record = json.loads(
            self.here("compare", "line", "flat", "--by", "evidence", "--json").stdout
        )
        logs = [record["models"][name]["log_value"] for name in ("line", "flat")]
        self.assertAlmostEqual(record["log_bayes_factors"]["line"]["flat"], logs[0] - logs[1])
        self.assertEqual(self.here("compare", "line", "flat", "--by", "x").returncode, 2)

    def test_comparison_by_folds_and_groups(self):
        done = self.here("compare", "line", "flat", "--folds", 4, "--json")
        record = json.loads(done.stdout)["cross_validation"]
        self.assertEqual(list(record), ["line", "flat"])
        self.assertGreater(record["line"]["elpd"], record["flat"]["elpd"])
        for wrong in (("--left-out", "lofts"), ("--by", "evidence", "--folds", 3)):
            self.assertEqual(self.here("compare", "line", "flat", *wrong).returncode, 2)
        self.assertEqual(self.here("compare", "line", "flat", "--no-repair").returncode, 0)

    def test_bayes_factors_and_sensitivity(self):
        done = self.here("ask", "line", "drying < -0.55", "--bayes-factor", "--json")
        found = json.loads(done.stdout)["drying < -0.55"]
        exact = straight().bayes_factor("drying < -0.55")
        self.assertAlmostEqual(found["log_value"], exact.log_value)
        self.assertEqual(self.here("ask", "line", "--bayes-factor").returncode, 2)
        done = self.here("sensitivity", "line", "--json")
        self.assertEqual(json.loads(done.stdout)["words"]["drying"], "the priors do not matter")
        self.assertIn("power", self.here("sensitivity", "line", "drying").stdout)

    def test_many_data_sets(self):
        call = ("fit", "drying.toml", "loft.csv", "--by", "loft", "--run", "many", "-q")
        short = ("--draws", 200, "--warmup", 200)
        done = self.here(*call, *short, "--json")
        record = json.loads(done.stdout)
        self.assertEqual(list(record["data_sets"]), ["North", "South"])
        self.assertIn("drying", record["data_sets"]["North"]["table"])
        again = self.here(*call, *short)
        self.assertEqual(again.returncode, 2)
        self.assertIn("--resume", again.stderr)
        again = self.here(*call, *short, "--resume")
        self.assertIn("drying, for each loft", again.stdout)
        self.assertEqual(list(mw.load_each(self.folder / "many")), ["North", "South"])
        bad = self.here("fit", "drying.toml", "loft.csv", "--by", "lof", "--run", "other")
        self.assertIn("Did you mean `loft`", bad.stderr)
        bad = self.here("fit", "drying.toml", "loft.csv", "--resume", "--run", "other")
        self.assertIn("millwright resume other", bad.stderr)

    def test_calibration(self):
        call = ("check", "drying.toml", "loft.csv", "--calibrate", 5, "-q")
        done = self.here(*call, "--json")
        self.assertEqual(json.loads(done.stdout)["replications"], 5)
        self.assertEqual(self.here(*call[:4], 1).returncode, 2)
