"""Definitions that do not fit together are refused, with a message that says what to do."""

import unittest

import numpy as np

import millwright as mw
from millwright.errors import LanguageError, ModelError

QUIET = {"progress": False, "draws": 500}

LINE = {"start": "normal(18, 3)", "drying": "normal(0, 1)", "noise": "exponential(rate=1)"}
OUTCOME = {"moisture": "normal(start + drying * hours, noise)"}


def model(priors=None, likelihood=None, **rest):
    return mw.Model(priors=priors or LINE, likelihood=likelihood or OUTCOME, **rest)


class Refusals(unittest.TestCase):
    def assert_refused(self, *words, **definitions):
        with self.assertRaises((ModelError, LanguageError)) as caught:
            model(**definitions)
        for word in words:
            self.assertIn(word, str(caught.exception))

    def test_arguments_of_distributions(self):
        cases = {
            "gamma(2, 1)": ("by name", "gamma(shape=..., rate=...)"),
            "gamma(shape=2)": ("needs `rate`",),
            "normal(0, sd=1)": ("no argument `sd`", "normal(location, scale)"),
            "normal(0, 1, scale=2)": ("twice",),
            "normal(0, 1, hihg=2)": ("Did you mean `high`",),
            "beta(alpha=1, beta=1, low=2, high=1)": ("`low` must be below `high`",),
            "nromal(0, 1)": ("no function `nromal`", "Did you mean `normal`"),
            "normal(0, half_normal(1))": ("cannot stand inside",),
            "normal(exp(1, 2), 1)": ("takes 1 argument",),
            "2 * normal(0, 1)": ("cannot stand inside",),
            "2 * drying": ("a distribution is needed",),
            "poisson(rate=3)": ("discrete",),
        }
        for text, words in cases.items():
            with self.subTest(text=text):
                self.assert_refused(*words, "`start`", priors={**LINE, "start": text})

    def test_either_form_of_a_parameter_but_not_both(self):
        self.assert_refused(
            "either", likelihood={"y": "bernoulli(probability=0.5, log_odds=start)"}
        )

    def test_circle(self):
        priors = {**LINE, "start": "normal(drying, 1)", "drying": "normal(start, 1)"}
        self.assert_refused("circle", "`drying` -> `start`", priors=priors)

    def test_names(self):
        self.assert_refused("defined twice", derived={"start": "2 * drying"})
        self.assert_refused("reserved", derived={"draw": "2 * drying"})
        self.assert_refused("cannot be written", derived={"a b": "2 * drying"})

    def test_no_likelihood(self):
        posterior = mw.Model(priors=LINE, likelihood={}).fit(seed=1, **QUIET)
        start = posterior.draws.get("start")
        self.assertLess(
            abs(start.mean() - 18), 4 * 3 / np.sqrt(posterior.measures.bulk_size.min())
        )

    def test_no_unknowns(self):
        self.assert_refused("no unknowns", priors={"noise": 1.0}, likelihood={"y": "normal(0, 1)"})

    def test_likelihood_is_not_per(self):
        self.assert_refused("`per` belongs", likelihood={"y": "normal(0, 1) per stone"})


class Equality(unittest.TestCase):
    def test_functions_and_text_make_equal_models(self):
        written = model(derived={"six": "start + 6 * drying"})
        functions = mw.Model(
            priors={
                "start": mw.normal(18, 3),
                "drying": lambda: mw.normal(0, 1),
                "noise": lambda: mw.exponential(rate=1),
            },
            likelihood={
                "moisture": lambda start, drying, hours, noise: mw.normal(
                    start + drying * hours, noise
                )
            },
            derived={"six": lambda start, drying: start + 6 * drying},
        )
        self.assertEqual(written, functions)
        self.assertEqual(hash(written), hash(functions))
        self.assertNotEqual(written, model())


if __name__ == "__main__":
    unittest.main()
