"""Distributions of vectors, matrices and labels: densities, maps, draws and gradients."""

import unittest
from typing import ClassVar

import jax
import jax.numpy as jnp
import numpy as np
from scipy import integrate, stats

from millwright.distributions import on_jax, on_numpy
from millwright.distributions.registry import DISTRIBUTIONS, family_for
from millwright.distributions.vector import LabelFamily, VectorFamily

COVARIANCE = np.array([[1.0, 0.6, -0.2], [0.6, 2.0, 0.3], [-0.2, 0.3, 0.5]])
SPREADS = np.sqrt(np.diag(COVARIANCE))
CENTRE = np.array([1.0, -2.0, 0.5])
ORDERED = family_for(("ordered", ("normal", frozenset({"location", "scale"}))), frozenset())
ORDERED_SHARES = family_for(("ordered", ("beta", frozenset({"alpha", "beta"}))), frozenset())
ORDERED_LARGE = family_for(("ordered", ("gamma", frozenset({"shape", "rate"}))), frozenset())

# Family, parameters, number of labels.
VECTORS = {
    "dirichlet": (DISTRIBUTIONS["dirichlet"], {"concentration": np.array([2.0, 0.7, 3.0])}, 3),
    "multivariate_normal": (
        DISTRIBUTIONS["multivariate_normal"],
        {"location": CENTRE, "covariance": COVARIANCE},
        3,
    ),
    "multivariate_normal by scales": (
        DISTRIBUTIONS["multivariate_normal"],
        {
            "location": CENTRE,
            "scales": SPREADS,
            "correlation": COVARIANCE / np.outer(SPREADS, SPREADS),
        },
        3,
    ),
    "multivariate_student_t": (
        DISTRIBUTIONS["multivariate_student_t"],
        {"location": CENTRE, "covariance": COVARIANCE, "df": np.array(5.0)},
        3,
    ),
    "lkj": (DISTRIBUTIONS["lkj"], {"shape": np.array(1.7)}, 3),
    "ordered normal": (
        ORDERED,
        {"of.location": np.array(0.5), "of.scale": np.array(2.0)},
        3,
    ),
    "ordered beta": (ORDERED_SHARES, {"of.alpha": np.array(2.0), "of.beta": np.array(3.0)}, 3),
    "ordered gamma": (ORDERED_LARGE, {"of.shape": np.array(2.0), "of.rate": np.array(1.0)}, 3),
    "random_walk": (
        DISTRIBUTIONS["random_walk"],
        {"start": np.array(1.0), "scale": np.full(4, 0.5), "drift": np.array(0.2)},
        4,
    ),
    "random_walk that jumps": (
        DISTRIBUTIONS["random_walk"],
        {"start": np.array(0.0), "scale": np.full(3, 0.5), "df": np.array(6.0)},
        3,
    ),
    "autoregressive": (
        DISTRIBUTIONS["autoregressive"],
        {
            "location": np.array(2.0),
            "scale": np.array(0.7),
            "coefficients": np.array([0.6, -0.3]),
            "start_scale": np.array(1.0),
        },
        4,
    ),
    "gaussian_process": (
        DISTRIBUTIONS["gaussian_process"],
        {"location": np.zeros(3), "kernel": COVARIANCE, "noise": np.full(3, 0.5)},
        3,
    ),
    "state_space": (
        DISTRIBUTIONS["state_space"],
        {
            "transition": np.array([[1.0, 1.0], [0.0, 0.9]]),
            "loading": np.array([[1.0, 0.2]]),
            "scale": np.array([0.5, 0.3]),
            "noise": np.array([0.4]),
            "start": np.array([1.0, 0.5]),
            "start_scale": np.array([1.0, 0.5]),
        },
        4,
    ),
}


def density_of_free(m, family, p, u):
    """Log density of the free coordinates."""
    x, log_slope = family.from_free(m, u, p)
    return family.log_density(m, x, p) + log_slope


def chart(family, x):
    """Coordinates of a value that its density is stated in."""
    if family.name == "dirichlet":
        return x[..., :-1]
    if family.event == "matrix":
        return x[..., *np.triu_indices(x.shape[-1], 1)]
    return x


class Vectors(unittest.TestCase):
    def shape(self, family, size):
        return (size, size) if family.event == "matrix" else (size,)

    def test_log_density_agrees_with_scipy(self):
        x = np.array([[0.2, 0.3, 0.5], [0.9, 0.05, 0.05]])
        references = {
            "dirichlet": [stats.dirichlet([2.0, 0.7, 3.0]).logpdf(row) for row in x],
            "multivariate_normal": stats.multivariate_normal(CENTRE, COVARIANCE).logpdf(x),
            "multivariate_normal by scales": stats.multivariate_normal(CENTRE, COVARIANCE).logpdf(
                x
            ),
            "multivariate_student_t": stats.multivariate_t(CENTRE, COVARIANCE, df=5).logpdf(x),
        }
        for name, want in references.items():
            family, p, _ = VECTORS[name]
            for m in (on_numpy, on_jax):
                with self.subTest(name=name, library=m.__name__):
                    np.testing.assert_allclose(family.log_density(m, x, p), want, rtol=1e-9)

    def test_map_lands_in_the_support_and_comes_back(self):
        for name, (family, p, size) in VECTORS.items():
            with self.subTest(name=name):
                u = np.random.default_rng(1).normal(size=(50, family.free_size(size)))
                x, _ = family.from_free(on_numpy, u, p)
                self.assertEqual(x.shape, (50, *self.shape(family, size)))
                self.assertTrue(family.contains(x, p).all())
                np.testing.assert_allclose(family.to_free(x, p), u, rtol=1e-6, atol=1e-7)

    def test_log_slope_is_the_determinant_of_the_map(self):
        for name, (family, p, size) in VECTORS.items():
            with self.subTest(name=name):
                u = jnp.asarray(np.random.default_rng(2).normal(size=family.free_size(size)))

                def values(q, family=family, p=p):
                    return chart(family, family.from_free(on_jax, q, p)[0])

                _, want = np.linalg.slogdet(np.asarray(jax.jit(jax.jacfwd(values))(u)))
                self.assertAlmostEqual(float(family.from_free(on_jax, u, p)[1]), want, places=8)

    def test_density_of_the_free_coordinates_is_that_of_the_draws(self):
        """The mean of q(u) / p(u) over draws u of p is 1 for any density q: p integrates to 1."""
        for name, (family, p, size) in VECTORS.items():
            with self.subTest(name=name):
                generator = np.random.default_rng(3)
                draws = family.draw(generator, (40_000, *self.shape(family, size)), p)
                self.assertTrue(family.contains(draws, p).all())
                u = family.to_free(draws, p)
                centre, spread = np.median(u, axis=0), 0.4 * u.std(axis=0)
                log_q = stats.norm(centre, spread).logpdf(u).sum(axis=-1)
                ratio = np.exp(log_q - density_of_free(on_numpy, family, p, u))
                error = ratio.std() / np.sqrt(len(ratio))
                self.assertLess(abs(ratio.mean() - 1), 5 * error)
                self.assertLess(error, 0.05)

    def test_draws_have_the_mean(self):
        for name, (family, p, size) in VECTORS.items():
            with self.subTest(name=name):
                mean = np.asarray(family.mean(p))
                if not np.isfinite(mean).all():
                    continue
                draws = family.draw(np.random.default_rng(4), (40_000, size), p)
                error = draws.std(axis=0) / np.sqrt(len(draws))
                self.assertTrue((np.abs(draws.mean(axis=0) - mean) < 5 * error).all(), name)

    def test_gradients_agree_with_differences(self):
        for name, (family, p, size) in VECTORS.items():
            with self.subTest(name=name):
                u = np.random.default_rng(5).normal(size=family.free_size(size)) * 0.7

                def value(q, m=on_jax, family=family, p=p):
                    return density_of_free(m, family, p, q)

                gradient = np.asarray(jax.jit(jax.grad(value))(jnp.asarray(u)))
                for at, exact in enumerate(gradient):
                    step = np.zeros_like(u)
                    step[at] = 1e-5
                    numeric = (value(u + step, on_numpy) - value(u - step, on_numpy)) / 2e-5
                    self.assertAlmostEqual(exact, numeric, delta=2e-5 * max(1, abs(numeric)))

    def test_second_derivatives_of_a_covariance(self):
        """Mode finding differentiates the derivative rule itself."""

        def value(t):
            scaled = on_jax.exp(t[0]) * jnp.asarray(COVARIANCE) + on_jax.exp(t[1]) * jnp.eye(3)
            return on_jax.gaussian_log_density(jnp.asarray(CENTRE) * t[2], scaled)

        slope = jax.jit(jax.grad(value))
        at = np.array([0.3, -0.5, 1.2])
        numeric = [(slope(at + e) - slope(at - e)) / 2e-5 for e in 1e-5 * np.eye(3)]
        np.testing.assert_allclose(jax.jit(jax.hessian(value))(at), numeric, rtol=1e-6, atol=1e-8)

    def test_large_inverse_by_blocks(self):
        generator = np.random.default_rng(6)
        a = generator.normal(size=(151, 151))
        factor = np.linalg.cholesky(a @ a.T + 151 * np.eye(151))
        product = np.asarray(on_jax.lower_inverse(jnp.asarray(factor))) @ factor
        np.testing.assert_allclose(product, np.eye(151), atol=1e-12)

    def test_matrix_that_is_not_positive_definite_gives_nan(self):
        bad = np.stack([np.array([[1.0, 2.0], [2.0, 1.0]]), np.eye(2)])
        for m in (on_numpy, on_jax):
            found = np.asarray(m.gaussian_log_density(np.zeros((2, 2)), bad))
            self.assertTrue(np.isnan(found[0]))
            self.assertAlmostEqual(found[1], -np.log(2 * np.pi))


class Correlations(unittest.TestCase):
    family = DISTRIBUTIONS["lkj"]

    def test_two_labels_are_a_beta_distribution(self):
        p = {"shape": np.array(2.5)}
        for r in (-0.9, 0.0, 0.4):
            want = stats.beta(2.5, 2.5).logpdf((1 + r) / 2) - np.log(2)
            found = self.family.log_density(on_numpy, np.array([[1, r], [r, 1]]), p)
            self.assertAlmostEqual(float(found), want, places=10)

    def test_density_integrates_to_one(self):
        p = {"shape": np.array(1.5)}

        def density(a, b, c):
            x = np.array([[1, a, b], [a, 1, c], [b, c, 1]])
            if np.linalg.eigvalsh(x)[0] <= 1e-12:
                return 0.0
            return float(np.exp(self.family.log_density(on_numpy, x, p)))

        grid, width = np.linspace(-1, 1, 41, retstep=True)
        middle = grid[:-1] + width / 2
        total = sum(density(a, b, c) for a in middle for b in middle for c in middle) * width**3
        self.assertAlmostEqual(total, 1.0, delta=0.01)

    def test_each_correlation_of_four_follows_a_beta_distribution(self):
        draws = self.family.draw(np.random.default_rng(7), (4000, 4, 4), {"shape": np.array(2.0)})
        for i, j in ((1, 0), (3, 1), (3, 2)):
            level = stats.kstest((1 + draws[:, i, j]) / 2, stats.beta(3.0, 3.0).cdf).pvalue
            self.assertGreater(level, 1e-4)


class Labels(unittest.TestCase):
    cuts = np.array([-1.0, 0.2, 2.0])

    def cases(self):
        yield "categorical", {"probabilities": np.array([0.2, 0.3, 0.5])}
        yield "categorical", {"log_odds": np.array([0.0, 1.0, -0.5])}
        yield "cumulative_logit", {"location": np.array(0.4), "cuts": self.cuts}
        yield "cumulative_probit", {"location": np.array(0.4), "cuts": self.cuts}

    def test_probabilities(self):
        latent = {"cumulative_logit": stats.logistic, "cumulative_probit": stats.norm}
        for name, p in self.cases():
            family = DISTRIBUTIONS[name]
            assert isinstance(family, LabelFamily)
            with self.subTest(name=name, p=list(p)):
                if name in latent:
                    edges = np.concatenate([[-np.inf], self.cuts - 0.4, [np.inf]])
                    want = np.diff(latent[name].cdf(edges))
                elif "log_odds" in p:
                    want = np.exp(p["log_odds"]) / np.exp(p["log_odds"]).sum()
                else:
                    want = p["probabilities"]
                np.testing.assert_allclose(family.probabilities(p), want, rtol=1e-10)
                for m in (on_numpy, on_jax):
                    found = family.log_density(m, np.arange(float(len(want))), p)
                    np.testing.assert_allclose(found, np.log(want), rtol=1e-9)
                draws = family.draw(np.random.default_rng(8), (20_000,), p)
                counts = np.bincount(draws.astype(int), minlength=len(want))
                self.assertGreater(stats.chisquare(counts, want * 20_000).pvalue, 1e-4)

    def test_far_locations_keep_values_and_gradients(self):
        for name in ("cumulative_logit", "cumulative_probit"):
            family = DISTRIBUTIONS[name]
            for x in range(4):
                with self.subTest(name=name, x=x):

                    def value(location, family=family, x=x):
                        p = {"location": location, "cuts": jnp.asarray(self.cuts)}
                        return family.log_density(on_jax, float(x), p)

                    slope = jax.jit(jax.grad(value))
                    for location in (-30.0, 30.0):
                        self.assertTrue(np.isfinite(value(location)))
                        self.assertTrue(np.isfinite(slope(location)))

    def test_location_for_each_row(self):
        family = DISTRIBUTIONS["cumulative_logit"]
        p = {"location": np.array([0.0, 5.0]), "cuts": self.cuts}
        self.assertEqual(family.log_probabilities(on_numpy, p).shape, (2, 4))
        np.testing.assert_allclose(family.probabilities(p).sum(axis=-1), 1.0)


class Multinomial(unittest.TestCase):
    family = DISTRIBUTIONS["multinomial"]
    p: ClassVar = {"trials": np.array(9.0), "probabilities": np.array([0.2, 0.3, 0.5])}

    def test_log_density_agrees_with_scipy_and_zero_counts_are_harmless(self):
        x = np.array([[2.0, 3.0, 4.0], [9.0, 0.0, 0.0]])
        want = stats.multinomial(9, [0.2, 0.3, 0.5]).logpmf(x)
        for m in (on_numpy, on_jax):
            np.testing.assert_allclose(self.family.log_density(m, x, self.p), want, rtol=1e-9)

        def value(shares):
            return self.family.log_density(on_jax, x[1], {**self.p, "probabilities": shares})

        self.assertTrue(np.isfinite(jax.grad(value)(jnp.array([1.0, 0.0, 0.0]))).all())

    def test_draws(self):
        draws = self.family.draw(np.random.default_rng(9), (20_000, 3), self.p)
        self.assertTrue(self.family.contains(draws, self.p).all())
        error = draws.std(axis=0) / np.sqrt(len(draws))
        self.assertTrue((np.abs(draws.mean(axis=0) - self.family.mean(self.p)) < 5 * error).all())
        covariance = np.cov(draws.T)
        self.assertAlmostEqual(covariance[0, 1], -9 * 0.2 * 0.3, delta=0.06)


class Registry(unittest.TestCase):
    def test_every_vector_family_is_here(self):
        seen = {family.name for family, _, _ in VECTORS.values()} | {"multinomial"}
        known = {n for n, f in DISTRIBUTIONS.items() if isinstance(f, VectorFamily)}
        self.assertLessEqual(known, seen)


class OrderedLoneBound(unittest.TestCase):
    def test_upper_bound_only(self):
        key = ("ordered", ("normal", frozenset({"location", "scale", "high"})))
        family = family_for(key, frozenset())
        p = {"of.location": np.array(0.0), "of.scale": np.array(1.0), "of.high": np.array(0.5)}
        x, _ = family.from_free(on_numpy, np.random.default_rng(1).normal(size=(20, 2)), p)
        self.assertTrue(family.contains(x, p).all())

        def density(b, a):
            return float(np.exp(family.log_density(on_numpy, np.array([a, b]), p)))

        total = integrate.dblquad(density, -8, 0.5, lambda a: a, lambda a: 0.5)[0]
        self.assertAlmostEqual(total, 1.0, places=4)


if __name__ == "__main__":
    unittest.main()
