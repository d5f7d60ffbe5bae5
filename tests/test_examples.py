"""The examples run and print what they promise."""

import subprocess
import sys
import tempfile
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

EXAMPLES = Path(__file__).parent.parent / "examples"


class Examples(unittest.TestCase):
    def run_example(self, name, *arguments):
        done = subprocess.run(
            [sys.executable, EXAMPLES / name, *arguments],
            capture_output=True,
            text=True,
            timeout=300,
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        return done.stdout

    def test_drying_loft(self):
        with tempfile.TemporaryDirectory() as folder:
            shown = self.run_example("drying_loft.py", folder)
            self.assertEqual(len(list(Path(folder).glob("*.png"))), 3)
        self.assertIn("Verdict: Converged", shown)
        self.assertIn("predicts better", shown)

    def test_two_carriers(self):
        shown = self.run_example("two_carriers.py")
        for words in ("One-sided reading", "Two-sided reading", "95 % HDI"):
            self.assertIn(words, shown)

    def test_every_family_of_models(self):
        cases = {
            "millstones.py": ("Verdict: Converged", "comes from its own loads"),
            "censored_moisture.py": ("stand at the limit", "counted as 20 or more: Converged"),
            "sluice_gate.py": ("tempering: opening", "stay in places of their own"),
            "on_a_cluster.py": ("evaluate the model: 2", "one worker killed: True"),
            "two_sources.py": ("Verdict: Converged", "`two_sources` predicts better"),
            "graded_loaves.py": ("Verdict: Converged", "share of fine", "most probable"),
            "varying_slopes.py": ("Verdict: Converged", "`correlation < 0` is 0.99"),
            "river_level.py": ("Verdict: Converged", "A week ahead", "With the levels summed out"),
            "wheel_power.py": ("Verdict: Converged", "predict about equally well"),
        }
        with ThreadPoolExecutor(2) as pool:
            printed = dict(zip(cases, pool.map(self.run_example, cases), strict=True))
        for name, words in cases.items():
            shown = printed[name]
            for word in words:
                with self.subTest(name=name, word=word):
                    self.assertIn(word, shown)


if __name__ == "__main__":
    unittest.main()
