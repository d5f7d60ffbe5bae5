"""Which unknowns a density compares with something."""

import unittest

import millwright as mw
from millwright.modelling.comparisons import compared_unknowns


class Compared(unittest.TestCase):
    def check(self, names, likelihood, **derived):
        priors = {"early": "normal(0, 1)", "late": "normal(0, 1)", "switch": "normal(2, 1)"}
        model = mw.Model(priors=priors, likelihood={"sacks": likelihood}, derived=derived)
        bound = model.bind({"day": [0.0, 1.0, 2.0, 3.0], "sacks": [1, 2, 4, 3]})
        self.assertEqual(compared_unknowns(bound.program), names)

    def test_in_the_likelihood_itself_or_through_what_is_derived(self):
        self.check(("switch",), "poisson(rate=exp(where(day < switch, early, late)))")
        through = "poisson(rate=exp(where(passed, early, late)))"
        self.check(("switch",), through, passed="day > 2 * switch")

    def test_not_where_data_decide_or_the_density_reads_nothing_of_it(self):
        plain = "poisson(rate=exp(where(day > 2, early, late) + 0 * switch))"
        self.check((), plain, better="late > early")
