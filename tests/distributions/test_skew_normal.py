"""The skew normal with any shape, against Owen's T function and tails in closed form."""

import functools
import unittest

import jax
import numpy as np
from scipy import special

from millwright.distributions import on_jax, on_numpy
from millwright.distributions.owen import owen_t
from millwright.distributions.skew_normal import SkewNormal

PLACES, SHAPES = (
    one.ravel()
    for one in np.meshgrid(
        [-3.0, -0.5, -0.01, -1e-4, 0.0, 1e-5, 0.003, 0.3, 1.0, 4.0],
        [-1e6, -50.0, -2.0, 0.0, 0.5, 3.0, 100.0, 1e5],
    )
)
FAMILY = SkewNormal()


def logs(m, z, shape):
    p = {"location": 0.0, "scale": 1.0, "shape": shape}
    return FAMILY.log_cdf(m, z, p), FAMILY.log_survival(m, z, p)


def by_both(function, *arguments):
    """What a formula gives under NumPy and, compiled, under JAX."""
    yield function(on_numpy, *arguments)
    yield jax.jit(functools.partial(function, on_jax))(*arguments)


class OwenT(unittest.TestCase):
    def test_agrees_with_scipy(self):
        a = np.append(SHAPES, [1.0, -1.0, 1e-9])
        h = np.append(PLACES, [0.7, -0.2, 3.0])
        for found in by_both(owen_t, h, a):
            np.testing.assert_allclose(found, special.owens_t(h, a), rtol=1e-13, atol=1e-16)


class DistributionFunction(unittest.TestCase):
    def test_the_middle_agrees_for_shapes_that_are_nearly_steps(self):
        below = special.ndtr(PLACES) - 2 * special.owens_t(PLACES, SHAPES)
        for found in by_both(logs, PLACES, SHAPES):
            for log_side, side in zip(found, (below, 1 - below), strict=True):
                known = side > 1e-5
                np.testing.assert_allclose(
                    log_side[known], np.log(side[known]), rtol=1e-9, atol=1e-10
                )

    def test_far_tails_are_those_of_their_leading_term(self):
        # Below zero the density falls like a normal one of precision 1 + shape^2 (Mills' ratios
        # of both factors), with a relative error of the inverse square.
        shape, z = np.array([3.0, 100.0, 1e5]), np.array([-12.0, -0.5, -1e-3])
        wide = z * z * (1 + shape**2)
        first = -np.log(np.pi * shape) - wide / 2 - np.log(wide)
        for found, _ in by_both(logs, z, shape):
            self.assertTrue((np.abs(found - first) < 6 / wide + 2 / (shape * z) ** 2).all())

    def test_gradients_are_density_over_probability(self):
        p = {"location": 0.0, "scale": 1.0, "shape": SHAPES}
        density = np.exp(FAMILY.log_density(on_numpy, PLACES, p))
        below = np.exp(logs(on_numpy, PLACES, SHAPES)[0])
        known = below > 1e-200
        bend = -np.exp(-(PLACES**2) * (1 + SHAPES**2) / 2) / (np.pi * (1 + SHAPES**2))
        slopes = jax.grad(lambda z, shape: logs(on_jax, z, shape)[0], (0, 1))
        found = jax.jit(jax.vmap(slopes))(PLACES, SHAPES)
        for slope, change in zip(found, (density, bend), strict=True):
            np.testing.assert_allclose(
                slope[known], change[known] / below[known], rtol=1e-7, atol=1e-12
            )


class Quantiles(unittest.TestCase):
    def test_they_invert_both_tails(self):
        q = np.concatenate([10.0 ** -np.arange(1, 15, 3), [0.3, 0.5, 0.9, 1 - 1e-9]])[:, None]
        p = {"location": 0.0, "scale": 1.0, "shape": np.unique(SHAPES)}
        for side, find in enumerate((FAMILY.quantile, FAMILY.survival_quantile)):
            back = logs(on_numpy, find(q, p), p["shape"])[side]
            np.testing.assert_allclose(
                back, np.broadcast_to(np.log(q), back.shape), rtol=1e-8, atol=1e-12
            )


if __name__ == "__main__":
    unittest.main()
