"""What the priors decide, against exact posteriors."""

import unittest

import numpy as np

import millwright as mw
from millwright.errors import ArgumentError, UnknownLabelError
from millwright.posterior.power_changes import change_of_fits
from millwright.posterior.sensitivity import NOTABLE
from millwright.sampling.compiling import compilations
from tests.evidence.test_evidence import LEVEL, Y, exact_level, fit


def model(prior):
    return mw.Model(priors={"level": prior}, likelihood={"y": "normal(level, 1)"})


def moments(y, mean, sd, of_prior=1.0, of_data=1.0):
    """Return mean and sd of a normal mean with prior and likelihood to some powers."""
    precision = of_prior / sd**2 + of_data * len(y)
    return (of_prior * mean / sd**2 + of_data * y.sum()) / precision, precision**-0.5


class Powers(unittest.TestCase):
    def test_moves_are_those_of_exact_posteriors(self):
        y = np.array([2.0, 3.0, 2.5, 3.5])
        posterior = fit(model("normal(0, 0.7)"), {"y": y}, draws=2000)
        found = posterior.prior_sensitivity()
        doublings = np.log2(1.25 / 0.8)
        for source, at in (("level", 0), ("likelihood", 1)):
            ends = []
            for power in (0.8, 1.25):
                powers = [1.0, 1.0]
                powers[at] = power
                ends.append(moments(y, 0.0, 0.7, *powers))
            sd = moments(y, 0.0, 0.7)[1]
            change = found.changes["level"][source]
            self.assertAlmostEqual(
                change.mean, (ends[1][0] - ends[0][0]) / sd / doublings, delta=0.08
            )
            self.assertAlmostEqual(
                change.sd, (ends[1][1] / ends[0][1]) ** (1 / doublings), delta=0.02
            )
        self.assertEqual(found.words["level"], "the prior of level and the data disagree")
        self.assertIn("disagree", str(found))

    def test_words(self):
        cases = {
            "normal(0, 100)": ("the priors do not matter", Y),
            "normal(1, 0.02)": ("the prior of level decides", Y[:1]),
            "normal(1, 0.5)": ("counts beside the data", np.array([1.2, 1.3, 1.1, 1.2])),
        }
        for prior, (words, y) in cases.items():
            found = fit(model(prior), {"y": y}).prior_sensitivity()
            with self.subTest(prior=prior):
                self.assertIn(words, found.words["level"])

    def test_what_reweighting_cannot_follow_is_fitted_again(self):
        # So far apart that no seed's draws reach from one power to the other.
        y = np.array([12.0, 13.5, 12.75])
        posterior = fit(model("normal(0, 0.3)"), {"y": y}, draws=2000)
        plain = posterior.prior_sensitivity(refit=False)
        self.assertEqual(set(plain.unknown), {"level", "likelihood"})
        self.assertIn("reweighting cannot follow", str(plain))
        found = posterior.prior_sensitivity(progress=False)
        self.assertEqual(set(found.refitted), {"level", "likelihood"})
        self.assertFalse(found.unknown)
        sd = moments(y, 0.0, 0.3)[1]
        ends = [moments(y, 0.0, 0.3, of_prior=power)[0] for power in (0.8, 1.25)]
        exact = (ends[1] - ends[0]) / sd / np.log2(1.25 / 0.8)
        self.assertAlmostEqual(found.changes["level"]["level"].mean, exact, delta=0.15)
        self.assertEqual(found.words["level"], "the prior of level and the data disagree")
        # The verdict says what was found once it was asked.
        self.assertIs(posterior.sensitivity_found, found)
        self.assertIn("disagree", posterior.verdict.facts[-1])

    def test_weights_that_hardly_differ_are_followed_whatever_their_tail(self):
        skewed = mw.Model(
            priors={"level": "normal(0, 1)"}, likelihood={"y": "laplace(level, 0.5)"}
        )
        for seed in range(4):
            posterior = skewed.fit({"y": [-1.2, -0.2, 0.8]}, seed=seed, progress=False)
            found = posterior.prior_sensitivity(refit=False)
            self.assertFalse(found.unknown)

    def test_fits_that_do_not_differ_are_no_distance_apart(self):
        generator = np.random.default_rng(0)
        one, other, third = generator.normal(size=(3, 4, 1000))
        self.assertLess(change_of_fits(one, [other, third]).distance, NOTABLE)
        moved = change_of_fits(one, [other - 0.2, third + 0.2])
        self.assertAlmostEqual(moved.mean, 0.4 / np.log2(1.25 / 0.8), delta=0.1)
        self.assertGreater(moved.distance, 2 * NOTABLE)

    def test_groups_and_figure(self):
        data = {"y": Y, "g": np.arange(20).astype(str)}
        groups = mw.Model(
            priors={"mu": "normal(0, 1)", "e": "normal(mu, 1) per g"},
            likelihood={"y": "normal(e[g], 1)"},
        )
        found = fit(groups, data).prior_sensitivity(["mu", "e[3]"])
        # Only the top prior is scaled: that of the effects belongs to the model.
        self.assertEqual(set(found.changes["mu"]), {"mu", "likelihood"})
        figure = mw.plots.prior_sensitivity(found)
        ends = [line.get_xdata()[-1] for line in figure.axes[0].lines[:4:2]]
        np.testing.assert_allclose(ends, [c.mean for c in found.changes["mu"].values()])

    def test_bad_calls(self):
        posterior = fit(LEVEL, {"y": Y})
        with self.assertRaises(UnknownLabelError):
            posterior.prior_sensitivity("slope")
        with self.assertRaisesRegex(ArgumentError, "prior_sensitivity"):
            mw.plots.prior_sensitivity(3)


class Others(unittest.TestCase):
    def test_estimates_and_evidences(self):
        posterior = fit(LEVEL, {"y": Y})
        posterior.evidence()
        before = compilations()
        found = posterior.under_priors({"near": {"level": "normal(0, 1)"}})
        self.assertEqual(compilations(), before)
        table = found.table()
        for key, sd in (("as fitted", 2.0), ("near", 1.0)):
            mean, spread = moments(Y, 0.0, sd)
            row = table.loc[("level", key)]
            self.assertLess(abs(row["mean"] - mean), 0.03)
            self.assertAlmostEqual(row["sd"] / spread, 1, delta=0.06)
        exact = exact_level(Y)
        self.assertAlmostEqual(found.evidences["as fitted"].log_value, exact, places=6)
        self.assertIn("Bayes factor over `as fitted`", str(found))
        self.assertEqual(len(mw.plots.under_priors(found).axes), 1)

    def test_bad_calls(self):
        posterior = fit(LEVEL, {"y": Y})
        calls = {
            lambda: posterior.under_priors({}): "by name",
            lambda: posterior.under_priors({"a": 3}): "mapping of unknowns",
            lambda: posterior.under_priors({"as fitted": {"level": 1}}): "choose another",
            lambda: posterior.under_priors({"a": {"leve": "normal(0, 1)"}}): "level",
            lambda: mw.plots.under_priors(3): "under_priors",
        }
        for call, words in calls.items():
            with self.subTest(words=words), self.assertRaisesRegex(ArgumentError, words):
                call()
