"""Processes against the dense normal distributions that they are."""

import unittest

import jax
import jax.numpy as jnp
import numpy as np
from scipy import stats

from millwright.distributions import on_jax, on_numpy
from millwright.distributions.kernels import KERNELS
from millwright.distributions.processes import Process
from millwright.distributions.registry import DISTRIBUTIONS

PLACES = np.array([0.0, 0.4, 0.4, 3.0])


def kernel(name, x, m=on_numpy, several=False, **p):
    given = {key: m.asarray(np.asarray(value, dtype=float)) for key, value in p.items()}
    return KERNELS[name](m, m.asarray(x), given, several)


class Kernels(unittest.TestCase):
    def test_values(self):
        r = np.abs(PLACES[:, None] - PLACES[None, :]) / 0.7
        a, b = np.sqrt(3) * r, np.sqrt(5) * r
        wave = np.sin(np.pi * np.subtract.outer(PLACES, PLACES) / 1.3) / 0.7
        want = {
            "squared_exponential": np.exp(-(r**2) / 2),
            "matern32": (1 + a) * np.exp(-a),
            "matern52": (1 + b + b**2 / 3) * np.exp(-b),
            "periodic": np.exp(-2 * wave**2),
            "linear": np.outer(PLACES, PLACES),
        }
        self.assertEqual(set(want), set(KERNELS))
        for name, shape in want.items():
            given = {
                k: v for k, v in (("length", 0.7), ("period", 1.3)) if k in KERNELS[name].arguments
            }
            with self.subTest(name=name):
                for m in (on_numpy, on_jax):
                    found = kernel(name, PLACES, m, scale=2.0, **given)
                    np.testing.assert_allclose(found, 4 * shape, atol=1e-12)
                self.assertGreater(np.linalg.eigvalsh(4 * shape)[0], -1e-10)

    def test_several_inputs_with_a_length_each(self):
        x = np.random.default_rng(1).normal(size=(4, 2))
        found = kernel("squared_exponential", x, several=True, scale=1.0, length=[0.5, 2.0])
        one, two = (
            kernel("squared_exponential", x[:, at], scale=1.0, length=length)
            for at, length in enumerate((0.5, 2.0))
        )
        np.testing.assert_allclose(found, one * two)

    def test_gradients_at_zero_distance_are_finite(self):
        for name in KERNELS:
            arguments = KERNELS[name].arguments

            def total(p, x, name=name):
                return jnp.sum(KERNELS[name](on_jax, x, p, False))

            p = {key: jnp.asarray(1.3) for key in arguments}
            by_p, by_x = jax.grad(total, argnums=(0, 1))(p, jnp.asarray(PLACES))
            with self.subTest(name=name):
                self.assertTrue(np.isfinite(by_x).all())
                self.assertTrue(all(np.isfinite(v) for v in by_p.values()))


class Processes(unittest.TestCase):
    def dense(self, family, p, n, centre):
        """Covariance from the images of unit steps."""
        images = np.stack([family.from_steps(on_numpy, unit, p) - centre for unit in np.eye(n)])
        return images.T @ images

    def cases(self):
        yield "random_walk", {"start": 1.0, "scale": np.array([0.5, 1.0, 0.2, 0.4]), "drift": 0.3}
        yield (
            "autoregressive",
            {
                "location": 2.0,
                "scale": 0.7,
                "coefficients": np.array([0.6, -0.3]),
                "start_scale": 1.0,
            },
        )

    def test_density_is_that_of_the_dense_normal(self):
        x = np.array([1.2, 0.7, 2.0, 1.1])
        for name, p in self.cases():
            family = DISTRIBUTIONS[name]
            centre = np.asarray(family.from_steps(on_numpy, np.zeros(4), p))
            want = stats.multivariate_normal(centre, self.dense(family, p, 4, centre)).logpdf(x)
            for m in (on_numpy, on_jax):
                with self.subTest(name=name, m=m.__name__):
                    self.assertAlmostEqual(float(family.log_density(m, m.asarray(x), p)), want)

    def test_steps_come_back(self):
        u = np.random.default_rng(2).normal(size=(3, 4))
        for name, p in self.cases():
            family = DISTRIBUTIONS[name]
            assert isinstance(family, Process)
            with self.subTest(name=name):
                np.testing.assert_allclose(
                    family.to_steps(family.from_steps(on_numpy, u, p), p), u, atol=1e-12
                )
                np.testing.assert_allclose(
                    family.from_steps(on_jax, jnp.asarray(u), p),
                    family.from_steps(on_numpy, u, p),
                    atol=1e-12,
                )

    def test_recursion_by_hand(self):
        family = DISTRIBUTIONS["autoregressive"]
        p = {"location": 1.0, "scale": 0.5, "coefficients": np.array([0.8]), "start_scale": 2.0}
        x = family.from_steps(on_numpy, np.array([1.0, -1.0, 2.0]), p)
        second = 1 + 0.8 * 2 - 0.5
        np.testing.assert_allclose(x, [3.0, second, 1 + 0.8 * (second - 1) + 1.0])


if __name__ == "__main__":
    unittest.main()
