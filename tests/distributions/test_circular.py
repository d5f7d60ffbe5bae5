"""The von Mises distribution as a number between -pi and pi: its mean, and what it takes."""

import itertools
import tracemalloc
import unittest

import numpy as np
from scipy import integrate, special

import millwright as mw
from millwright.distributions.registry import DISTRIBUTIONS

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


if __name__ == "__main__":
    unittest.main()
