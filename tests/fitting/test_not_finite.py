"""Where no chain can begin, it is said what is at fault: arguments, or values in the data."""

import unittest
import warnings

import millwright as mw
from millwright.errors import StartError

PRIORS = {"a": "normal(0, 1)", "s": "half_normal(1)"}


def refusal(likelihood, **data):
    model = mw.Model(priors=PRIORS, likelihood={"y": likelihood})
    try:
        model.fit(data, seed=1, draws=20, progress=False)
    except StartError as error:
        return str(error)
    raise AssertionError("It was fitted.")


class Told(unittest.TestCase):
    def test_values_at_an_end_of_what_can_be_are_named(self):
        for likelihood, values, words in (
            ("beta(alpha=s, beta=exp(a))", [0.3, 0.0, 1.0, 0.5], "is 0, 1, and nowhere else"),
            ("lognormal(a, s)", [0.0, 1.0, 2.0], "is 0, and nowhere else"),
            ("normal(a, s)", [1.0, 1e200], "is 1e+200, and nowhere else"),
            ("lognormal(a, s)", [0.0] * 3 + [1.0, 2.0] * 30, "is 0, and nowhere else"),
        ):
            with self.subTest(likelihood, values=len(values)):
                told = refusal(likelihood, y=values)
                self.assertIn(words, told)
                self.assertIn("say so in the model", told)

    def test_arguments_out_of_range_are_not_blamed_on_the_data(self):
        told = refusal("normal(a, -s)", y=[0.0, 1.0, 2.0])
        self.assertIn("Check that its arguments stay in their ranges", told)
        self.assertNotIn("nowhere else", told)
        # A scale that one row has below zero is no matter of its value.
        told = refusal("normal(a, s - hours)", y=[1.0, 1.5], hours=[0.0, 60.0])
        self.assertNotIn("nowhere else", told)
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            self.assertNotIn("nowhere else", refusal("normal(a, sqrt(-s))", y=[1.0, 1.5]))


if __name__ == "__main__":
    unittest.main()
