"""Every example runs and prints what it promises: `make examples`.

These take longer than the tests, which run a few of them.
"""

import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

EXAMPLES = Path(__file__).parent.parent / "examples"


def run_example(name, *arguments):
    return subprocess.run(
        [sys.executable, EXAMPLES / name, *map(str, arguments)],
        capture_output=True,
        text=True,
        timeout=300,
    )


class Prints(unittest.TestCase):
    """What an example prints."""

    def check(self, name, *words, arguments=()):
        done = run_example(name, *arguments)
        self.assertEqual(done.returncode, 0, done.stderr)
        for word in words:
            self.assertIn(word, done.stdout)


class WholeExamples(Prints):
    def test_drying_loft(self):
        with tempfile.TemporaryDirectory() as folder:
            words = ("Verdict: Converged", "predicts better")
            self.check("drying_loft.py", *words, arguments=(folder,))
            self.assertEqual(len(list(Path(folder).glob("*.png"))), 3)

    def test_censored_moisture(self):
        self.check(
            "censored_moisture.py", "stand at the limit", "counted as 20 or more: Converged"
        )

    def test_from_prior_to_decision(self):
        with tempfile.TemporaryDirectory() as folder:
            self.check("from_prior_to_decision.py", "Verdict: Converged", arguments=(folder,))
            self.assertGreaterEqual(len(list(Path(folder).glob("*.png"))), 3)

    def test_graded_loaves(self):
        self.check("graded_loaves.py", "Verdict: Converged", "share of fine", "most probable")

    def test_many_lofts(self):
        with tempfile.TemporaryDirectory() as folder:
            words = ("Calibrated", "Loft 12", "within three sds in 12 of 12")
            self.check("many_lofts.py", *words, arguments=(folder,))
            self.assertEqual(len(list(Path(folder).glob("*.png"))), 2)

    def test_dressing_trials(self):
        with tempfile.TemporaryDirectory() as folder:
            words = ("moderate evidence", "less bran only", "Without each trial")
            self.check("dressing_trials.py", *words, arguments=(folder,))
            self.assertEqual(len(list(Path(folder).glob("*.png"))), 3)

    def test_flour_yield(self):
        with tempfile.TemporaryDirectory() as folder:
            words = ("Converged: no problem found", "under two priors of g", "Predicted")
            self.check("flour_yield.py", *words, arguments=(folder,))
            self.assertEqual(len(list(Path(folder).glob("*.png"))), 4)

    def test_wearing_stones(self):
        with tempfile.TemporaryDirectory() as folder:
            words = ("which is not the effect", "the data speak against it", "instrument")
            self.check("wearing_stones.py", *words, arguments=(folder,))
            self.assertEqual(len(list(Path(folder).glob("*.png"))), 1)

    def test_unpublished_trials(self):
        with tempfile.TemporaryDirectory() as folder:
            words = ("under publication bias as under none", "Chance that", "effect > 0.1")
            self.check("unpublished_trials.py", *words, arguments=(folder,))
            self.assertEqual(len(list(Path(folder).glob("*.png"))), 2)

    def test_heated_lofts(self):
        with tempfile.TemporaryDirectory() as folder:
            words = ("For 1 more of `heat`", "wheat", "0.8: ")
            self.check("heated_lofts.py", *words, arguments=(folder,))
            self.assertEqual(len(list(Path(folder).glob("*.png"))), 1)

    def test_sack_weights(self):
        self.check("sack_weights.py", "`south` is higher than `north`", "=== pairs", "REJECT")

    def test_river_days(self):
        self.check("river_days.py", "the correlation is", "last five days", "All pairs")

    def test_on_a_cluster(self):
        self.check("on_a_cluster.py", "evaluate the model: 2", "one worker killed: True")

    def test_flour_market(self):
        with tempfile.TemporaryDirectory() as folder:
            words = ("Verdict: Converged", "What moves:", "larger is better")
            self.check("flour_market.py", *words, arguments=(folder,))
            self.assertEqual(len(list(Path(folder).glob("*.png"))), 4)

    def test_grain_store(self):
        with tempfile.TemporaryDirectory() as folder:
            words = ("one sd of `rain` moves `stock` most at once", "Workers that can solve")
            self.check("grain_store.py", *words, "log score", arguments=(folder,))
            self.assertEqual(len(list(Path(folder).glob("*.png"))), 4)

    def test_two_wheels(self):
        with tempfile.TemporaryDirectory() as folder:
            words = (
                "the curve fits within the errors",
                "`rising` predicts better",
                "walkers",
                "It rises",
            )
            self.check("two_wheels.py", *words, "+-", arguments=(folder,))
            self.assertEqual(len(list(Path(folder).glob("*.png"))), 4)

    def test_river_level(self):
        self.check(
            "river_level.py",
            "Verdict: Converged",
            "A week ahead",
            "With the levels summed out",
            "Both gauges read one level",
        )

    def test_sluice_gate(self):
        self.check("sluice_gate.py", "tempering: opening", "No chain ever left the mode")

    def test_two_sources(self):
        self.check("two_sources.py", "Verdict: Converged", "`two_sources` predicts better")

    def test_varying_slopes(self):
        self.check("varying_slopes.py", "Verdict: Converged", "`correlation < 0` is 0.99")

    def test_worn_stones(self):
        with tempfile.TemporaryDirectory() as folder:
            words = ("After all 24 rows", "With 20 rows more", "models averaged", "3 groups")
            self.check("worn_stones.py", *words, arguments=(folder,))
            page = (Path(folder) / "worn_stones.html").read_text(encoding="utf-8")
            self.assertIn("Evidence as rows came in", page)
            self.assertIn("What the priors decide", page)

    def test_wheel_power(self):
        self.check("wheel_power.py", "Verdict: Converged", "predict about equally well")


if __name__ == "__main__":
    unittest.main()
