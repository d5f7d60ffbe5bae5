"""Random-walk Metropolis against exact answers and against the gradient sampler."""

import unittest

import numpy as np

import millwright as mw
from millwright.sampling.random_walk import acceptance_for
from tests.fits import assert_mean_near

COVARIANCE = [[1.0, 0.9, 0.0], [0.9, 1.0, 0.0], [0.0, 0.0, 1e-4]]


class Walk(unittest.TestCase):
    def fit(self, **settings):
        """Three unknowns, two of them strongly correlated, one on another scale."""
        model = mw.Model(
            priors={
                "x": "multivariate_normal([1, 2, 3], "
                "covariance=[[1, 0.9, 0], [0.9, 1, 0], [0, 0, 0.0001]]) per part"
            },
            likelihood={"y": "normal(0, 1)"},
            labels={"part": ["a", "b", "c"]},
        )
        given = {"seed": 4, "method": "random_walk", "progress": False, **settings}
        return model.fit({"y": [0.0]}, **given)

    def test_mean_and_covariance(self):
        posterior = self.fit(draws=2000)
        draws = posterior.draws.get("x")
        for at, mean in enumerate((1.0, 2.0, 3.0)):
            assert_mean_near(self, draws[..., at], mean)
        found = np.cov(draws.reshape(-1, 3).T)
        np.testing.assert_allclose(found, COVARIANCE, atol=0.12)
        self.assertTrue(posterior.verdict.good, str(posterior))

    def test_acceptance_settles_where_it_should(self):
        accepted = self.fit().fit.statistics["acceptance"].mean()
        self.assertAlmostEqual(accepted, acceptance_for(3), delta=0.06)

    def test_same_seed_same_draws_whatever_the_workers(self):
        one, two = (self.fit(draws=50, warmup=100, workers=n)["x"].values for n in (1, 2))
        np.testing.assert_array_equal(one, two)

    def test_group_effects_agree_with_the_gradient_sampler(self):
        model = mw.Model(
            priors={"spread": "half_normal(1)", "effect": "normal(0, spread) per stone"},
            likelihood={"y": "normal(effect[stone], 0.5)"},
        )
        data = {"stone": ["a", "b", "c"] * 3, "y": np.linspace(-1, 1, 9)}
        walked = model.fit(data, method="random_walk", draws=2000, seed=1, progress=False)
        followed = model.fit(data, seed=1, progress=False)
        assert_mean_near(self, walked.draws.get("spread"), float(followed["spread"].mean()))


if __name__ == "__main__":
    unittest.main()
