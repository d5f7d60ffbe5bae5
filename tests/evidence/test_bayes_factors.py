"""Bayes factors of points, regions and models against closed forms."""

import unittest

import numpy as np
from scipy import integrate, stats

import millwright as mw
from millwright.errors import ArgumentError, ModelError
from millwright.evidence.bayes_factor import factor_text
from tests.evidence.test_evidence import LEVEL, Y, exact_level, fit

FREE = mw.Model(
    priors={"level": "normal(0, 2)", "noise": "half_normal(1)"},
    likelihood={"y": "normal(level, noise)"},
)
SIZE = len(Y)
POSTERIOR = stats.norm(Y.sum() / (SIZE + 0.25), 1 / np.sqrt(SIZE + 0.25))
PRIOR = stats.norm(0, 2)


class Inside(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.known = fit(LEVEL, {"y": Y}, draws=1000)
        cls.free = fit(FREE, {"y": Y}, draws=1000)

    def test_regions(self):
        cases = {
            "level < 0.9": (-np.inf, 0.9),
            "1.2 <= level": (1.2, np.inf),
            "0.8 < level < 1.3": (0.8, 1.3),
        }
        for statement, (low, high) in cases.items():
            after = POSTERIOR.cdf(high) - POSTERIOR.cdf(low)
            before = PRIOR.cdf(high) - PRIOR.cdf(low)
            exact = np.log(after / (1 - after)) - np.log(before / (1 - before))
            found = self.known.bayes_factor(statement)
            self.assertAlmostEqual(found.prior_probability, before, places=12)
            self.assertLess(abs(found.log_value - exact), 4 * found.standard_error, statement)
            self.assertTrue(found.trusted)
        drawn = self.known.bayes_factor("level * 2 < 1.8")
        before = PRIOR.cdf(0.9)
        self.assertLess(abs(drawn.prior_probability - before), 4 * np.sqrt(0.25 / 40_000))
        far = self.known.bayes_factor("level < -3")
        self.assertTrue(far.at_least)
        self.assertIn("at least", str(far))
        self.assertLess(far.log_value, 0)

    def test_points_near_and_far(self):
        exact = POSTERIOR.logpdf(1.0) - PRIOR.logpdf(1.0)
        near = self.known.bayes_factor("level == 1")
        self.assertLess(abs(near.log_value - exact), 4 * near.standard_error + 0.01)
        exact = POSTERIOR.logpdf(-1.0) - PRIOR.logpdf(-1.0)
        far = self.known.bayes_factor("-1 == level")
        self.assertIn("likelihood at the point", far.method)
        self.assertAlmostEqual(far.log_value, exact, places=6)
        held = fit(
            mw.Model(
                priors={"level": "normal(0, 2)", "noise": 1.0},
                likelihood={"y": "normal(level, noise)"},
            ),
            {"y": Y},
        )
        exact = held.evidence().log_value - self.free.evidence().log_value
        far = self.free.bayes_factor("noise == 4")
        self.assertIn("null model was fitted", far.method)
        self.assertLess(far.log_value, -10)
        found = self.free.bayes_factor("noise == 1")
        self.assertLess(abs(found.log_value - exact), 4 * found.standard_error + 0.01)

    def test_points_of_bounded_unknowns_whatever_the_seed(self):
        # In the coordinates of the sampler such posteriors are skewed, with one light tail.
        y = np.array([0.3, -0.2, 0.6])
        at_zero = stats.norm.pdf(y[:, None], [0.2], 1).prod()
        for prior, law in (
            ("half_normal(1)", stats.halfnorm()),
            ("normal(0, 1, low=-0.5)", stats.truncnorm(-0.5, np.inf)),
        ):
            model = mw.Model(priors={"level": prior}, likelihood={"y": "normal(level, 1)"})
            evidence = integrate.quad(
                lambda b, law=law: law.pdf(b) * stats.norm.pdf(y, b, 1).prod(), -0.5, 12
            )[0]
            exact = np.log(at_zero / evidence)
            off = []
            for seed in range(8):
                fitted = model.fit({"y": y}, seed=seed, progress=False)
                found = fitted.bayes_factor("level == 0.2")
                off.append((found.log_value - exact) / found.standard_error)
            # The mean of eight squares with one degree of freedom each.
            self.assertLess(np.mean(np.square(off)), stats.chi2.isf(1e-3, 8) / 8, prior)

    def test_bad_statements(self):
        cases = {
            "level": "not true or false",
            "noise == -1": "outside the support",
            "noise > -1": "probability of 1",
            "noise < -1": "probability of 0",
            "level + noise == 0": "one unknown",
        }
        for statement, words in cases.items():
            with self.subTest(statement=statement), self.assertRaisesRegex(ArgumentError, words):
                self.free.bayes_factor(statement)
        with self.assertRaisesRegex(ModelError, "null model by hand"):
            self.free.bayes_factor("noise == 0")
        with self.assertRaisesRegex(ArgumentError, "text"):
            self.free.bayes_factor(3)


class Between(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.level = fit(LEVEL, {"y": Y})
        none = mw.Model(priors={"noise": "half_normal(1)"}, likelihood={"y": "normal(0, noise)"})
        cls.none = fit(none, {"y": Y})
        wide = mw.Model(priors={"level": "normal(0, 20)"}, likelihood={"y": "normal(level, 1)"})
        cls.wide = fit(wide, {"y": Y})

    def test_models_are_weighed(self):
        prior = {"near": 0.2, "wide": 0.8}
        found = mw.bayes_factors(near=self.level, wide=self.wide, prior=prior)
        wide = stats.multivariate_normal(np.zeros(SIZE), np.eye(SIZE) + 400.0).logpdf(Y)
        exact = exact_level(Y) - wide
        self.assertAlmostEqual(found.log_factor("near", "wide")[0], exact, places=6)
        odds = np.exp(exact) * 0.25
        self.assertAlmostEqual(found.posterior["near"], odds / (1 + odds), places=6)
        self.assertAlmostEqual(found.matrix().loc["wide", "near"], -exact, places=6)
        self.assertIn("`near` as under `wide`", found.sentence)
        self.assertIn("1 / ", str(found))
        self.assertEqual(list(found.table().index), ["near", "wide"])
        self.assertTrue(found.record["trusted"])

    def test_bad_calls(self):
        other = fit(LEVEL, {"y": Y + 1})
        calls = {
            lambda: mw.bayes_factors(a=self.level): "two or more",
            lambda: mw.bayes_factors(a=self.level, b=3): "must be a posterior",
            lambda: mw.bayes_factors(a=self.level, b=other): "different outcomes",
            lambda: mw.bayes_factors(a=self.level, b=self.none, prior={"a": 1}): "each of the",
            lambda: mw.bayes_factors(
                a=self.level, b=self.none, prior={"a": 0.5, "b": 0.6}
            ): "sum to 1",
            lambda: mw.bayes_factors(a=self.level, b=self.none).log_factor("a", "c"): "no model",
        }
        for call, words in calls.items():
            with self.subTest(words=words), self.assertRaisesRegex(ArgumentError, words):
                call()

    def test_readable_forms(self):
        for value, text in ((17.3, "17.3"), (1 / 4.2, "1 / 4.20"), (1e7, "> 10^6"), (1.0, "1.00")):
            self.assertEqual(factor_text(np.log(value)), text)
        self.assertEqual(factor_text(-np.log(1e9)), "1 / > 10^6")
