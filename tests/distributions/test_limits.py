"""Limits of recording at the end of what a distribution can be, and beyond it."""

import unittest

import jax
import numpy as np

import millwright as mw
from millwright.distributions import on_jax, on_numpy
from millwright.distributions.registry import DISTRIBUTIONS
from millwright.modelling.density import LogDensity
from tests.fits import assert_mean_near

POSITIVE = {
    "gamma": "gamma(shape=s, rate=exp(a))",
    "half_normal": "half_normal(s * exp(a))",
    "inverse_gamma": "inverse_gamma(shape=s, scale=exp(a))",
    "lognormal": "lognormal(a, s)",
    "weibull": "weibull(shape=s, scale=exp(a))",
    "cut above": "gamma(shape=s, rate=exp(a), high=50)",
    "two kinds": "mixture(weibull(shape=s, scale=exp(a)), lognormal(a, s), share=0.4)",
}
PLACE = np.array([0.3, -0.2])


def density_of(likelihood: str, **columns):
    """Return the log density and its gradient at a place, of columns of data."""
    priors = {"a": "normal(0, 1)", "s": "lognormal(0, 1)"}
    bound = mw.Model(priors=priors, likelihood={"y": likelihood}).bind(columns)
    density = LogDensity(bound.program)
    value, gradient = jax.jit(jax.value_and_grad(density))(PLACE, bound.arguments)
    return float(value), np.asarray(gradient)


class AtTheEnd(unittest.TestCase):
    def setUp(self):
        # Of the prior alone: a row whose probability is 1 adds nothing.
        self.value, self.gradient = density_of("bernoulli(probability=1)", y=[1])

    def test_what_was_watched_for_no_time_says_nothing(self):
        for name, written in POSITIVE.items():
            with self.subTest(name):
                recorded = f"censored({written}, high=limit)"
                value, gradient = density_of(recorded, y=[0.0, -2.0], limit=[0.0, -2.0])
                self.assertAlmostEqual(value, self.value, places=12)
                np.testing.assert_allclose(gradient, self.gradient, atol=1e-12)

    def test_what_cannot_be_has_no_density(self):
        for name, written in POSITIVE.items():
            with self.subTest(name):
                value, gradient = density_of(f"censored({written}, low=0)", y=[0.0])
                self.assertEqual(value, -np.inf)
                self.assertTrue(np.isfinite(gradient).all())

    def test_one_component_beyond_its_end_leaves_the_other(self):
        rows = {"y": [0.0, -0.5], "limit": [0.0, -0.5]}
        alone = density_of("censored(normal(a, s), low=limit)", **rows)
        for inside in ("lognormal(a, s)", "gamma(shape=s, rate=exp(a))"):
            both = f"censored(mixture({inside}, normal(a, s), share=0.4), low=limit)"
            value, gradient = density_of(both, **rows)
            self.assertAlmostEqual(value, alone[0] + 2 * np.log(0.6), places=12)
            np.testing.assert_allclose(gradient, alone[1], rtol=1e-12)

    def test_shares_of_one(self):
        for side, limit in (("high", 0.0), ("low", 1.0)):
            written = f"censored(beta(alpha=exp(a), beta=s), {side}=limit)"
            value, gradient = density_of(written, y=[limit], limit=[limit])
            self.assertAlmostEqual(value, self.value, places=12)
            np.testing.assert_allclose(gradient, self.gradient, atol=1e-12)

    def test_angles_beyond_the_circle(self):
        family, p = DISTRIBUTIONS["von_mises"], {"location": 0.4, "concentration": 1.2}
        for m in (on_numpy, on_jax):
            for x, below, above in ((4.0, 0.0, -np.inf), (-4.0, -np.inf, 0.0)):
                x = m.asarray(x)
                with np.errstate(divide="ignore"):
                    self.assertAlmostEqual(float(np.exp(family.log_cdf(m, x, p))), np.exp(below))
                    found = float(np.exp(family.log_survival(m, x, p)))
                    self.assertAlmostEqual(found, np.exp(above))

    def test_rows_that_were_watched_for_no_time_are_fitted(self):
        model = mw.Model(
            priors={"rate": "gamma(shape=2, rate=1)"},
            likelihood={"wait": "censored(weibull(shape=1, scale=1 / rate), high=watched)"},
        )
        wait, watched = [1.2, 3.0, 0.4, 5.0, 0.0], [9.0, 3.0, 9.0, 5.0, 0.0]
        posterior = model.fit({"wait": wait, "watched": watched}, seed=5, progress=False)
        self.assertTrue(posterior.verdict.good)
        # Two of the five waits came to an end: gamma with shape 2 + 2 and rate 1 + their sum.
        assert_mean_near(self, posterior.draws.get("rate"), 4 / (1 + sum(wait)))


if __name__ == "__main__":
    unittest.main()
