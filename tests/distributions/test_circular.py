"""The von Mises distribution as a number between -pi and pi: its mean, and what it takes."""

import itertools
import tracemalloc
import unittest

import jax
import numpy as np
from scipy import integrate, special

import millwright as mw
from millwright.distributions import on_jax, on_numpy
from millwright.distributions.registry import DISTRIBUTIONS
from tests.fits import assert_mean_near

VON_MISES = DISTRIBUTIONS["von_mises"]


def mean_by_quadrature(location, concentration):
    """The mean of the density between -pi and pi, cut where it is narrow."""

    def density(x):
        height = np.exp(concentration * (np.cos(x - location) - 1))
        return height / (2 * np.pi * special.i0e(concentration))

    steps = np.array([-10, -3, 0, 3, 10]) / np.sqrt(concentration)
    around = location + 2 * np.pi * np.arange(-1, 2)[:, None] + steps
    ends = np.unique(np.clip([-np.pi, np.pi, *around.ravel()], -np.pi, np.pi))
    pairs = itertools.pairwise(ends)
    return sum(integrate.quad(lambda x: x * density(x), *pair)[0] for pair in pairs)


def mass_by_quadrature(low, high, location, concentration):
    """The probability between two angles to many digits, however small, cut where it is dense."""

    def density(x):
        height = np.exp(concentration * (np.cos(x - location) - 1))
        return height / (2 * np.pi * special.i0e(concentration))

    decays = np.array([0.03, 0.1, 0.3, 1.0, 3.0]) / np.sqrt(concentration)
    ends = np.unique(np.clip([low, high, *(low + decays), *(high - decays)], low, high))
    return sum(integrate.quad(density, *pair, epsabs=0)[0] for pair in itertools.pairwise(ends))


class Tails(unittest.TestCase):
    def test_far_ones_have_their_digits_and_slopes(self):
        # Also where the tail goes round beyond the point opposite the centre.
        cases = [(0.0, 30.0, -2.0), (1.0, 30.0, -2.0), (-3.0, 90.0, 2.0), (40.2, 200.0, -1.0)]
        cases += [(0.1, 900.0, -0.4), (2.0, 30.0, -3.0), (1.0, 2.0, 0.7), (-0.3, 60.0, 2.0)]
        cases += [(0.3, 1e-3, 3.0)]
        location, concentration, x = np.array(cases).T
        p = {"location": location, "concentration": concentration}
        density = np.exp(VON_MISES.log_density(on_numpy, x, p))
        sides = (VON_MISES.log_cdf, 1, -np.pi, x), (VON_MISES.log_survival, -1, x, np.pi)
        for log_side, sign, *ends in sides:
            every = np.broadcast(*ends, location, concentration)
            mass = np.array([mass_by_quadrature(*each) for each in every])
            self.assertLess(mass.min(), 1e-20)
            with self.subTest(sign=sign):
                found = log_side(on_numpy, x, p)
                np.testing.assert_allclose(found, np.log(mass), rtol=0, atol=1e-9)
                compiled, back = jax.jit(
                    lambda x, side=log_side: jax.vjp(lambda x: side(on_jax, x, p), x)
                )(x)
                np.testing.assert_allclose(compiled, found, rtol=0, atol=1e-9)
                slopes = back(np.ones(len(x)))[0]
                np.testing.assert_allclose(slopes, sign * density / mass, rtol=1e-7, atol=1e-12)


class Mean(unittest.TestCase):
    def test_what_wraps_round_counts_a_turn_less(self):
        for location in (0.0, 0.4, -1.0, 2.9, -3.1):
            for concentration in (1e-3, 0.5, 3.0, 40.0, 1e4):
                found = VON_MISES.mean({"location": location, "concentration": concentration})
                exact = mean_by_quadrature(location, concentration)
                self.assertAlmostEqual(float(found), exact, places=8)

    def test_centres_beyond_a_turn_and_shapes(self):
        p = {"location": np.array([[0.4], [0.4 + 6 * np.pi]]), "concentration": np.ones(3)}
        found = VON_MISES.mean(p)
        self.assertEqual(found.shape, (2, 3))
        np.testing.assert_allclose(found, mean_by_quadrature(0.4, 1.0), rtol=1e-8)

    def test_predictions_of_many_rows_need_little_memory(self):
        model = mw.Model(
            priors={"middle": "normal(0, 1)", "narrow": "uniform(low=0.5, high=4)"},
            likelihood={"wind": "von_mises(middle, concentration=narrow)"},
        )
        posterior = model.fit({"wind": [0.3, 1.1, -2.0]}, seed=1, progress=False)
        tracemalloc.start()
        found = posterior.predict(rows=40)
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        self.assertLess(peak, 2e8)
        drawn = found.draws["wind"]
        error = 5 * drawn.std() / np.sqrt(posterior.table()["effective draws"].min())
        self.assertLess(np.abs(found.expected["wind"] - drawn.mean()).max(), error)

    def test_an_angle_on_both_sides_of_the_cut_is_said_and_a_turn_is_right(self):
        wind = np.array([2.9, 3.1, -2.9, 2.6, -3.0])
        likelihood = {"wind": "von_mises(middle, concentration=4)"}
        cut = mw.Model(
            priors={"middle": "von_mises(0, concentration=0.5)"}, likelihood=likelihood
        ).fit({"wind": wind}, seed=1, draws=300, progress=False)
        self.assertFalse(cut.verdict.good)
        self.assertIn("`middle` has draws near both pi and -pi", str(cut.verdict))
        turned = mw.Model(
            priors={"turn": "von_mises(-3, concentration=0.5)"},
            derived={"middle": "3 + turn"},
            likelihood=likelihood,
        ).fit({"wind": wind}, seed=1, progress=False)
        self.assertTrue(turned.verdict.good, str(turned.verdict))
        # The posterior is a von Mises distribution too (Mardia and Jupp 2000).
        resultant = 0.5 + 4 * np.exp(1j * wind).sum()
        exact = np.angle(resultant * np.exp(-3j))
        assert_mean_near(self, turned.draws.get("turn"), exact)


if __name__ == "__main__":
    unittest.main()
