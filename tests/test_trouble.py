"""Hopeless targets: each is recognised, and reported in words with advice."""

import unittest

import jax.numpy as jnp

import millwright as mw


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
