"""Every method against exact answers, and what each refuses."""

import unittest

import jax.numpy as jnp
import numpy as np

import millwright as mw
from millwright.errors import ArgumentError, SamplingError
from tests.fits import assert_mean_near

PRECISION = np.linalg.inv([[1.0, 1.2], [1.2, 4.0]])


def tilted(x, y):
    """Normal with means 1 and 2, variances 1 and 4, covariance 1.2."""
    z = jnp.stack([x - 1.0, y - 2.0])
    return -0.5 * z @ PRECISION @ z


TILTED = mw.Target(tilted, {"x": "real", "y": "real"})
METHODS = {
    "fixed length": mw.FixedLength(),
    "normal steps": mw.RandomWalk(),
    "Student-t steps": mw.RandomWalk(proposal="student_t", df=3, steps=20),
    "curvature at the mode": mw.RandomWalk(covariance="mode", acceptance=0.3),
    "stated covariance": mw.RandomWalk(covariance=[[1.0, 1.2], [1.2, 4.0]]),
    "stretch": mw.Ensemble(proposal="stretch", steps=4),
    "differences": mw.Ensemble(proposal="differential_evolution", steps=4),
    "tempering": mw.Tempering(temperatures=4, smallest_power=0.1),
    "rejection": mw.Rejection(),
}


class Answers(unittest.TestCase):
    def test_means_and_covariance(self):
        for label, method in METHODS.items():
            with self.subTest(method=label):
                fit = TILTED.fit(method=method, draws=500, warmup=400, seed=3, progress=False)
                x, y = fit.draws.get("x"), fit.draws.get("y")
                assert_mean_near(self, x, 1.0)
                assert_mean_near(self, y, 2.0)
                assert_mean_near(self, (x - 1.0) * (y - 2.0), 1.2)
                assert_mean_near(self, (y - 2.0) ** 2, 4.0)

    def test_acceptance_follows_what_is_asked(self):
        for wanted in (0.2, 0.6):
            method = mw.RandomWalk(acceptance=wanted)
            fit = TILTED.fit(method=method, draws=300, warmup=500, seed=1, progress=False)
            found = fit.fit.statistics["acceptance"].mean()
            self.assertAlmostEqual(found, wanted, delta=0.08)

    def test_independent_draws_have_no_autocorrelation(self):
        fit = TILTED.fit(method="rejection", draws=1000, seed=2, progress=False)
        self.assertGreater(fit.measures.bulk_size.min(), 3000)
        efficiency = fit.record.chains[0]["efficiency"]
        self.assertTrue(0.1 < efficiency < 1)
        # What the table calls acceptance is that share too, not a mean of one over tries.
        self.assertAlmostEqual(fit.fit.statistics["acceptance"].mean(), efficiency, delta=0.05)
        self.assertIn("Converged", str(fit))


class SeparateModes(unittest.TestCase):
    def setUp(self):
        def two(x):
            return jnp.logaddexp(
                jnp.log(0.7) - 0.5 * (x - 8) ** 2, jnp.log(0.3) - 0.5 * (x + 8) ** 2
            )

        self.target = mw.Target(two, {"x": "real"})

    def test_tempering_weighs_them(self):
        fit = self.target.fit(method="tempering", seed=1, progress=False)
        assert_mean_near(self, (fit.draws.get("x") > 0).astype(float), 0.7)
        chain = fit.record.chains[0]
        self.assertGreater(chain["round_trips"], 5)
        self.assertEqual(len(chain["swap_rates"]), len(chain["powers"]) - 1)
        self.assertLess(np.ptp(chain["swap_rates"]), 0.35)
        self.assertIn("round trips", str(fit.verdict))
        self.assertTrue(fit.verdict.good, fit.verdict)

    def test_a_ladder_too_short_is_flagged(self):
        def wide(x):
            return jnp.logaddexp(
                jnp.log(0.7) - 0.5 * jnp.sum((x - 8) ** 2),
                jnp.log(0.3) - 0.5 * jnp.sum((x + 8) ** 2),
            )

        target = mw.Target(wide, {"x": "flat() per at"}, labels={"at": list(range(60))})
        method = mw.Tempering(temperatures=2, steps=1)
        fit = target.fit(method=method, draws=200, warmup=200, seed=1, progress=False)
        self.assertFalse(fit.verdict.good)
        self.assertIn("round trip", " ".join(str(fit.verdict).split()))

    def test_modes_are_found_before_sampling_and_each_gets_a_chain(self):
        """Masses of 0.7 and 0.3 in the prior: chains that start around its median all miss one."""
        target = mw.Target(
            lambda x: 0.0, {"x": "mixture(normal(-6, 0.5), normal(6, 1), share=0.7)"}
        )
        for seed in range(3):
            fit = target.fit(seed=seed, draws=200, warmup=200, progress=False)
            self.assertFalse(fit.verdict.good)
            text = " ".join(str(fit.verdict).split())
            self.assertIn("`x` near -6 (about", text)
            self.assertIn("left the mode in which it began", text)
            np.testing.assert_allclose(fit.record.modes["masses"], [0.7, 0.3], atol=0.06)

    def test_a_single_peak_is_said_with_care(self):
        fit = mw.Target(lambda x: -0.5 * x**2, {"x": "real"}).fit(seed=1, progress=False)
        self.assertTrue(fit.verdict.good)
        self.assertIn("one mode found by 128 optimisations from different", str(fit.verdict))

    def test_chains_that_stay_apart_are_named_with_their_places(self):
        fit = self.target.fit(seed=2, draws=300, warmup=300, progress=False)
        text = " ".join(str(fit.verdict).split())
        for words in (
            "NOT CONVERGED",
            "Chains stay in places of their own",
            "near 8",
            "tempering",
        ):
            self.assertIn(words, text)

    def test_the_mode_reports_other_ends(self):
        found = str(self.target.mode(seed=2))
        self.assertIn("starts ended at this maximum", found)
        self.assertIn("0.8473 lower in log density, at x = -8", found)


class Rejection(unittest.TestCase):
    def test_prior_candidates(self):
        model = mw.Model(
            priors={"share": "beta(alpha=1, beta=1)"},
            likelihood={"late": "binomial(trials=20, probability=share)"},
        )
        fit = model.fit({"late": [6]}, method=mw.Rejection(candidate="prior"), progress=False)
        assert_mean_near(self, fit.draws.get("share"), 7 / 22)

    def test_a_target_above_the_envelope(self):
        with self.assertRaisesRegex(SamplingError, "above the envelope.*Give envelope="):
            TILTED.fit(method=mw.Rejection(envelope=-3.0), progress=False)
        heavy = mw.Target(lambda x: -jnp.log1p(x**2), {"x": "real"})
        with self.assertRaisesRegex(SamplingError, "heavier tails"):
            heavy.fit(method=mw.Rejection(df=30), draws=20_000, progress=False)

    def test_a_mode_that_candidates_hardly_reach_is_not_lost(self):
        def two(x):
            return jnp.logaddexp(-0.5 * ((x - 12) / 1.0) ** 2, -0.5 * ((x - 31) / 1.0) ** 2)

        target = mw.Target(two, {"x": (0, 60)})
        with self.assertRaisesRegex(SamplingError, "tempering"):
            target.fit(method="rejection", chains=1, progress=False)
        wide = mw.Rejection(stretch=20)
        fit = target.fit(method=wide, draws=300, seed=1, progress=False)
        assert_mean_near(self, (fit.draws.get("x") > 20).astype(float), 0.5)

    def test_hopeless_efficiency(self):
        narrow = mw.Target(lambda x, y: -0.5e8 * (x**2 + y**2), {"x": (-50, 50), "y": (-50, 50)})
        with self.assertRaisesRegex(SamplingError, "keeps .* of .* candidates"):
            narrow.fit(method=mw.Rejection(candidate="prior"), chains=1, progress=False)


class Choices(unittest.TestCase):
    def test_choices_that_make_no_sense(self):
        for make, words in (
            (lambda: mw.RandomWalk(proposal="cauchy"), "normal, student_t"),
            (lambda: mw.RandomWalk(df=-1), "`df`"),
            (lambda: mw.RandomWalk(covariance=[[1.0, 2.0], [2.0, 1.0]]), "positive eigenvalues"),
            (lambda: mw.RandomWalk(acceptance=2), "`acceptance`"),
            (lambda: mw.RandomWalk(steps=0), "`steps`"),
            (lambda: mw.Ensemble(proposal="jump"), "stretch"),
            (lambda: mw.Tempering(temperatures=1), "`temperatures`"),
            (lambda: mw.Tempering(smallest_power=1.5), "`smallest_power`"),
            (lambda: mw.Rejection(candidate="uniform"), "student_t, prior"),
            (lambda: mw.Rejection(envelope="high"), "`envelope`"),
            (lambda: mw.NoUTurn(target_acceptance=1.0), "`target_acceptance`"),
            (lambda: mw.NoUTurn(max_depth=99), "`max_depth`"),
            (lambda: TILTED.fit(method="gibbs", progress=False), "no_u_turn, fixed_length"),
            (lambda: TILTED.fit(method=3, progress=False), r"mw.RandomWalk\(\)"),
            (lambda: TILTED.fit(method="ensemble", chains=5, progress=False), "chains=6"),
            (lambda: TILTED.fit(method="ensemble", chains=4, progress=False), "at least 6"),
            (
                lambda: TILTED.fit(method=mw.RandomWalk(covariance=[[1.0]]), progress=False),
                "has 1 rows",
            ),
            (
                lambda: TILTED.fit(method=mw.Rejection(candidate="prior"), progress=False),
                "not proper",
            ),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(ArgumentError, words):
                make()


if __name__ == "__main__":
    unittest.main()
