"""Advice in the words of each face, and runs by their names."""

import unittest
from pathlib import Path

from millwright.cli.base import named_runs
from millwright.errors import ArgumentError, UnknownLabelError
from millwright.wording import action, changes, either, for_page, for_python, for_shell, setting


class Wording(unittest.TestCase):
    def test_one_advice_in_three_faces(self):
        run = Path("my run")
        for text, python, shell, page in (
            (setting("warmup"), "warmup=", "--warmup", "warmup"),
            (setting("target_acceptance", 0.95), "target_acceptance=0.95",
             "--target-acceptance 0.95", "target acceptance 0.95"),
            (setting("trial", True), "trial=True", "--trial", "trial"),
            (setting("method", "tempering"), "method='tempering'", "--method tempering",
             "method tempering"),
            (action("extend", 860), "posterior.extend(860)", "millwright extend 'my run' 860",
             "extend by 860"),
            (action("resume", "a b"), "mw.resume('a b')", "millwright resume 'a b'",
             "resume it"),
            (either("x=1", "-x 1"), "x=1", "-x 1", "-x 1"),
        ):  # fmt: skip
            with self.subTest(python):
                self.assertEqual(for_python(f"Try {text}."), f"Try {python}.")
                self.assertEqual(for_shell(f"Try {text}.", run), f"Try {shell}.")
                self.assertEqual(for_page(f"Try {text}."), f"Try {page}.")

    def test_advice_is_data(self):
        text = f"Give {setting('draws', 2500)} or {action('extend', 500)}; see {setting('warmup')}"
        self.assertEqual(
            changes(text),
            [{"setting": "draws", "to": 2500}, {"action": "extend", "to": 500},
             {"setting": "warmup"}],
        )  # fmt: skip

    def test_texts_of_the_users_stay_as_they_are(self):
        text = "`y`: normal(start, sd=noise, method=3, trial=True) mw.resume('x')"
        self.assertEqual((for_shell(text), for_page(text)), (text, text))

    def test_errors_are_worded_by_the_face(self):
        error = ArgumentError(f"Give {setting('rows', 3)}.")
        self.assertEqual((str(error), error.told(for_shell)), ("Give rows=3.", "Give --rows 3."))
        self.assertEqual(str(UnknownLabelError("no `a`")), "no `a`")

    def test_runs_of_one_name_are_numbered(self):
        runs = [Path("a/fit"), Path("b/fit"), Path("c/fit (2)"), Path("d/other.zip")]
        self.assertEqual(list(named_runs(runs)), ["fit", "fit (2)", "fit (2) (2)", "other"])


if __name__ == "__main__":
    unittest.main()
