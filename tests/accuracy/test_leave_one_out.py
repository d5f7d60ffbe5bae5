"""Leave-one-out against exact refits, and comparisons of models."""

import unittest

import numpy as np
from scipy import stats

import millwright as mw
from millwright.diagnostics.smoothing import fit_pareto, highest_good_k, smoothed_log_weights
from millwright.errors import ArgumentError
from tests.fits import flat, known_scale, straight, yeasts


class LeaveOneOut(unittest.TestCase):
    def test_agrees_with_exact_refits(self):
        posterior, y = known_scale()
        exact = []
        for at in range(len(y)):
            rest = np.delete(y, at)
            precision = 0.25 + len(rest)
            predictive = stats.norm(rest.sum() / precision, np.sqrt(1 / precision + 1))
            exact.append(predictive.logpdf(y[at]))
        result = posterior.leave_one_out()
        np.testing.assert_allclose(result.elpd_by_row, exact, atol=0.02)
        self.assertAlmostEqual(result.elpd, sum(exact), delta=0.05)
        self.assertAlmostEqual(result.se, np.std(exact, ddof=1) * np.sqrt(len(y)), delta=0.02)
        self.assertAlmostEqual(result.effective_parameters, 1.0, delta=0.35)
        self.assertEqual(result.unreliable, ())

    def test_influential_row_is_named(self):
        y = np.append(np.random.default_rng(0).normal(0, 0.1, 8), 25.0)
        model = mw.Model(
            priors={"level": "normal(0, 100)", "noise": "half_normal(100)"},
            likelihood={"y": "normal(level, noise)"},
        )
        posterior = model.fit({"y": y}, progress=False, seed=1)
        result = posterior.leave_one_out(repair=False)
        self.assertIn(("y", 9), result.unreliable)
        self.assertIn("row 9", str(result))


class Smoothing(unittest.TestCase):
    def test_pareto_fit_finds_the_shape(self):
        for k in (0.2, 0.5, 0.9):
            x = np.sort(stats.genpareto(k, scale=2.0).rvs(5000, random_state=1))
            shape, scale = fit_pareto(x)
            self.assertAlmostEqual(shape, k, delta=0.06)
            self.assertAlmostEqual(scale, 2.0, delta=0.2)

    def test_weights_are_normalised_and_equal_ones_stay(self):
        ratios = np.random.default_rng(0).normal(0, 1, 2000)
        weights, k = smoothed_log_weights(ratios)
        self.assertAlmostEqual(np.exp(weights).sum(), 1.0)
        self.assertLess(k, 0.7)
        equal, _ = smoothed_log_weights(np.zeros(100))
        np.testing.assert_allclose(np.exp(equal), 0.01)
        self.assertEqual(smoothed_log_weights(np.zeros(100))[1], 0.0)

    def test_limit_depends_on_the_number_of_draws(self):
        self.assertAlmostEqual(highest_good_k(100), 0.5)
        self.assertEqual(highest_good_k(4000), 0.7)


class Compare(unittest.TestCase):
    def test_better_model_comes_first_with_a_sentence(self):
        result = mw.compare(flat=flat(), straight=straight())
        self.assertEqual(list(result.table().index), ["straight", "flat"])
        self.assertTrue(result.sentence.startswith("`straight` predicts better than `flat`"))
        gap = -result.table().loc["flat", "elpd difference"]
        self.assertAlmostEqual(gap, straight().leave_one_out().elpd - flat().leave_one_out().elpd)

    def test_equal_models_are_said_to_be_equal(self):
        self.assertIn("predict every row alike", mw.compare(a=straight(), b=straight()).sentence)

    def test_of_a_single_row_no_standard_error_is_known(self):
        fits = {
            name: mw.Model(
                priors={"level": f"normal({middle}, 1)"}, likelihood={"y": "normal(level, 1)"}
            ).fit({"y": [0.4]}, seed=4, progress=False)
            for name, middle in (("near", 0), ("far", 5), ("farther", 6))
        }
        for result in (fits["near"].leave_one_out(), fits["near"].waic()):
            self.assertTrue(np.isnan(result.se))
            self.assertIn("(standard error not known; larger is better)", str(result))
        compared = mw.compare(**fits)
        gap = stats.norm(5, 2**0.5).logpdf(0.4) - stats.norm(0, 2**0.5).logpdf(0.4)
        self.assertAlmostEqual(compared.table().loc["far", "elpd difference"], gap, delta=0.3)
        self.assertRegex(
            compared.sentence,
            r"^`near` predicts that row better than `far` \(by 5\.\d in elpd, with a standard "
            r"error that a single row does not tell\)\.$",
        )
        self.assertNotIn("nan", str(compared))

    def test_bad_comparisons(self):
        with self.assertRaisesRegex(ArgumentError, "at least two"):
            mw.compare(a=straight())
        with self.assertRaisesRegex(ArgumentError, "different outcomes"):
            mw.compare(a=straight(), b=yeasts())
        with self.assertRaisesRegex(ArgumentError, "must be a posterior"):
            mw.compare(a=straight(), b=3)


if __name__ == "__main__":
    unittest.main()
