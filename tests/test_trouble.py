"""Hopeless targets: each is recognised, and reported in words with advice."""

import unittest

import jax.numpy as jnp
import numpy as np
from scipy.special import gammaln

import millwright as mw
from tests.fits import assert_mean_near


def verdict(density, unknowns, **settings):
    settings = {"draws": 300, "warmup": 300, "seed": 1, "progress": False, **settings}
    return mw.Target(density, unknowns).fit(**settings).verdict


class Recognised(unittest.TestCase):
    def assert_says(self, found, *words):
        text = " ".join(str(found).split())
        self.assertFalse(found.good, text)
        for each in words:
            self.assertIn(each, text)

    def test_an_improper_posterior(self):
        found = verdict(lambda x, y: -0.5 * (x + y) ** 2, {"x": "real", "y": "real"}, max_depth=7)
        self.assert_says(found, "NOT CONVERGED", "posterior is improper", "a proper prior")

    def test_a_chain_that_never_moves(self):
        far = mw.RandomWalk(covariance=[[1e20]])
        found = verdict(lambda x: -0.5 * x**2, {"x": "real"}, method=far, warmup=0)
        self.assert_says(found, "NOT CONVERGED", "Never moved")

    def test_a_jump_that_gradients_do_not_show(self):
        counts = np.random.default_rng(1).poisson(np.repeat([3.0, 6.0], [25, 15]))
        data = {"day": np.arange(40), "sacks": counts}
        model = mw.Model(
            priors={
                "switch": "uniform(low=0, high=39)",
                "early": "exponential(rate=0.3)",
                "late": "exponential(rate=0.3)",
            },
            likelihood={"sacks": "poisson(rate=where(day < switch, early, late))"},
        )
        followed = model.fit(data, seed=1, draws=100, warmup=100, progress=False)
        self.assert_says(followed.verdict, "may jump where `switch` passes", "method='tempering'")
        walked = model.fit(data, seed=1, method="tempering", progress=False)
        self.assertTrue(walked.verdict.good, str(walked.verdict))
        self.assertNotIn("jump", str(walked.verdict))
        # Against sums over the days: between two of them the density is flat.
        cut, share = np.arange(1, 40), []
        for day in cut:
            parts = (counts[:day], counts[day:])
            each = (gammaln(p.sum() + 1) - (p.sum() + 1) * np.log(len(p) + 0.3) for p in parts)
            share.append(sum(each))
        share = np.exp(np.array(share) - max(share))
        mean = share @ (cut - 0.5) / share.sum()
        assert_mean_near(self, walked.draws.get("switch"), mean)

    def test_a_constant_quantity(self):
        model = mw.Model(
            priors={"x": "normal(0, 1)"},
            likelihood={"y": "normal(x, 1)"},
            derived={"same": "0 * x + 3"},
        )
        found = model.fit({"y": [1.0]}, draws=300, warmup=300, progress=False).verdict
        self.assert_says(found, "`same`: constant", "Check the definition")

    def test_draws_that_overflow(self):
        model = mw.Model(
            priors={"x": "normal(0, 500)"},
            likelihood={"y": "normal(0 * x, 1)"},
            derived={"huge": "exp(x)"},
        )
        found = model.fit({"y": [1.0]}, draws=300, warmup=300, progress=False).verdict
        self.assert_says(found, "`huge`: not finite", "overflow")

    def test_extending_does_not_mend_a_warm_up(self):
        target = mw.Target(
            lambda x, y: -0.5 * (1e8 * (x - y) ** 2 + x**2), {"x": "real", "y": "real"}
        )
        fit = target.fit(draws=50, warmup=5, max_depth=5, seed=1, progress=False)
        self.assertFalse(fit.verdict.good)
        self.assert_says(fit.extend(20, progress=False).verdict, "Extending does not repeat")

    def test_the_normal_approximation_says_what_it_is(self):
        model = mw.Model(priors={"x": "normal(0, 1)"}, likelihood={"y": "normal(x, 1)"})
        near = model.normal_approximation({"y": [1.0]})
        self.assertIn("APPROXIMATION: close", str(near))
        self.assertAlmostEqual(float(near["x"].mean()), 0.5, delta=0.05)
        heavy = mw.Target(lambda x: -jnp.log1p(x**2), {"x": "real"})
        self.assertIn("do not use", str(heavy.normal_approximation().verdict))


if __name__ == "__main__":
    unittest.main()
