"""Advice in the words of the shell."""

import unittest
from pathlib import Path

from millwright.cli.base import named_runs
from millwright.cli.phrases import in_shell


class InShell(unittest.TestCase):
    def test_arguments_become_options_and_calls_commands(self):
        run = Path("my run")
        for text, wanted in (
            ("Give a longer warm-up (warmup=).", "Give a longer warm-up (--warmup)."),
            ("Try target_acceptance=0.95 or 0.99.", "Try --target-acceptance 0.95 or 0.99."),
            ("let method='tempering' weigh", "let --method tempering weigh"),
            ("Run four chains (chains=4).", "Run four chains (--chains 4)."),
            ("Use chains=4.", "Use --chains 4."),
            ("(posterior.extend(860) goes on)", "(millwright extend 'my run' 860 goes on)"),
            (
                "posterior.extend(), or mw.resume()",
                "millwright extend 'my run' DRAWS, or millwright resume 'my run'",
            ),
            ("exists already; give replace=True to", "exists already; give --replace to"),
            ("or give existing='replace'.", "or give --replace to overwrite the run in it."),
        ):
            with self.subTest(text=text):
                self.assertEqual(in_shell(text, run), wanted)

    def test_places_are_taken_as_they_are(self):
        self.assertIn(r"extend 'a\1 b' 5", in_shell("posterior.extend(5)", Path(r"a\1 b")))

    def test_runs_of_one_name_are_numbered(self):
        runs = [Path("a/fit"), Path("b/fit"), Path("c/fit (2)"), Path("d/other.zip")]
        self.assertEqual(list(named_runs(runs)), ["fit", "fit (2)", "fit (2) (2)", "other"])

    def test_definitions_stay_as_they_are(self):
        text = "noise: exponential(rate=1)\n       ^^^^ df=3, high='x'"
        self.assertEqual(in_shell(text), text)


if __name__ == "__main__":
    unittest.main()
