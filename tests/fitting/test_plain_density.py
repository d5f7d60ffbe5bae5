"""The short way to a black box's density agrees with the long one, prior by prior."""

import unittest

import numpy as np

import millwright as mw
from millwright.distributions import on_numpy
from millwright.fitting.plain_density import short_way
from millwright.modelling.density import SplitLogDensity

PRIORS = (
    "normal(1, 2)",
    "normal(1, 2, low=0)",
    "normal(0, 1, low=20)",
    "normal(0, 1, low=-1, high=3)",
    "student_t(0, 1, df=3)",
    "half_cauchy(2)",
    "gamma(shape=2, rate=3, high=2)",
    "beta(alpha=2, beta=3)",
    "uniform(low=1, high=4)",
    "flat(low=0)",
    "flat()",
    "lognormal(0, 1)",
    "mixture(normal(-6, 0.5), normal(6, 1), share=0.7)",
    "exponential(rate=2 * 3)",
    "von_mises(0, concentration=2)",
    "cauchy(0, 1, high=-3)",
)


def distance(a, b):
    return -0.5 * (a - b) ** 2


class ShortWay(unittest.TestCase):
    def test_prior_and_likelihood_are_those_of_the_model(self):
        positions = 1.5 * np.random.default_rng(0).normal(size=(50, 2))
        for prior in PRIORS:
            with self.subTest(prior=prior):
                priors = {"a": "normal(0, 1)", "b": prior}
                binding = mw.Target(distance, priors, black_box=True).bind(None)
                split = SplitLogDensity(binding.program)
                wanted = split.parts(on_numpy, positions, binding.arguments)
                found = short_way(binding)(positions)
                for short, long in zip(found, wanted, strict=True):
                    np.testing.assert_allclose(
                        short, np.broadcast_to(long, 50), rtol=1e-10, atol=1e-10
                    )

    def test_priors_that_rest_on_others_go_the_long_way(self):
        model = mw.Target(distance, {"a": "normal(0, 1)", "b": "normal(a, 1)"}, black_box=True)
        self.assertIsNone(short_way(model.bind(None)))
        of_lists = "mixture(normal([-1, 2], 0.5), weights=[1, 1])"
        model = mw.Target(distance, {"a": of_lists, "b": of_lists}, black_box=True)
        self.assertIsNone(short_way(model.bind(None)))


if __name__ == "__main__":
    unittest.main()
