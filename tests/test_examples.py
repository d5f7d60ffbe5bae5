"""Two examples run and print what they promise; `tests/whole_examples.py` runs the others."""

import unittest

from tests import whole_examples


class Examples(whole_examples.Prints):
    def test_two_yeasts(self):
        self.check("two_yeasts.py", "One-sided reading", "Two-sided reading", "95 % HDI")

    def test_millstones(self):
        self.check("millstones.py", "Verdict: Converged", "comes from its own loads")

    def test_every_example_has_its_test(self):
        tested = {
            name.removeprefix("test_")
            for kind in (Examples, whole_examples.WholeExamples)
            for name in dir(kind)
        }
        for place in whole_examples.EXAMPLES.glob("*.py"):
            self.assertIn(place.stem, tested)


if __name__ == "__main__":
    unittest.main()
