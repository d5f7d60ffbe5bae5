"""The examples run and print what they promise."""

import subprocess
import sys
import tempfile
import unittest
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


if __name__ == "__main__":
    unittest.main()
