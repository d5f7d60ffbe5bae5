"""Latent functions in coordinates that the data inform: exact maps, exact posteriors."""

import unittest

import jax
import jax.numpy as jnp
import numpy as np
from scipy import stats

import millwright as mw
from millwright.diagnostics.convergence import mean_error
from millwright.distributions import on_numpy
from millwright.distributions.jax_function import informed_function
from millwright.fitting.coordinates import prepared
from millwright.modelling.hierarchy import place_group, unplace_group

PLACES = np.array([0.0, 0.4, 1.1, 1.5, 2.6, 3.0])
KERNEL = "squared_exponential(x, scale=height, length=1)"
PRIORS = {"height": "half_normal(1)", "curve": f"gaussian_process(0.5, kernel={KERNEL}) per x"}


def covariance(height):
    square = (PLACES[:, None] - PLACES) ** 2
    return height**2 * (np.exp(-0.5 * square) + 1e-8 * np.eye(len(PLACES)))


def form_of(likelihood, **columns):
    model = mw.Model(priors={**PRIORS, "noise": "half_normal(1)"}, likelihood=likelihood)
    return chosen(model, "curve", **columns)


def chosen(model, name, form="informed", **columns):
    bound = model.bind({"x": PLACES, **columns})
    return dict(prepared(bound, form, 1).program.forms)[name]


class Map(unittest.TestCase):
    def constants(self, seed):
        make = np.random.default_rng(seed)
        information = make.exponential(size=6) * make.integers(0, 3, size=6)
        return make.normal(size=6), information, make.normal(size=6)

    def test_density_is_that_of_the_prior_times_the_derivative(self):
        u, information, pull = self.constants(0)
        k = covariance(1.3)
        values, joint = informed_function(u, 0.5, k, information, pull)
        slopes = jax.jacfwd(lambda u: informed_function(u, 0.5, k, information, pull)[0])(u)
        prior = stats.multivariate_normal(np.full(6, 0.5), k, allow_singular=True)
        want = prior.logpdf(values) + np.linalg.slogdet(slopes)[1]
        self.assertAlmostEqual(float(joint), want, places=6)

    def test_numpy_does_the_same_and_the_way_back(self):
        model = mw.Model(priors=PRIORS, likelihood={"y": "poisson(log_rate=curve[x])"})
        bound = model.bind({"x": PLACES, "y": np.ones(6, dtype=int)})
        part = bound.program.by_name["curve"]
        u, information, pull = self.constants(1)
        p = {"location": np.full(6, 0.5), "kernel": covariance(1.3)}
        for constants in ((information, pull), (0 * information, 0 * pull)):
            x, joint = place_group(on_numpy, part, u, p, constants)
            k = covariance(1.3) + 1e-8 * 1.3**2 * np.eye(6)
            other, term = informed_function(u, p["location"], k, *constants)
            np.testing.assert_allclose(x, other, atol=1e-6)
            self.assertAlmostEqual(float(joint), float(term), places=6)
            np.testing.assert_allclose(unplace_group(part, x, p, constants), u, atol=1e-5)

    def test_its_derivative_is_that_of_the_formula(self):
        u, information, pull = self.constants(2)
        square = (PLACES[:, None] - PLACES) ** 2

        def through(place, theta, u):
            k = jnp.exp(2 * theta[0]) * jnp.exp(-0.5 * square) + 1e-3 * jnp.eye(6)
            seen, drawn = jnp.exp(-theta[0]) * information, (1 + theta[1]) * pull
            values, term = place(u, theta[1] * jnp.ones(6), k, seen, drawn)
            return jnp.sum(jnp.sin(values)) + term

        def plain(u, location, k, information, pull):
            root = jnp.linalg.cholesky(k)
            inner = jnp.linalg.cholesky(jnp.eye(6) + root.T @ (information[:, None] * root))
            h = root.T @ (pull - information * location)
            z = jnp.linalg.solve(inner.T, jnp.linalg.solve(inner, h) + u)
            term = -0.5 * z @ z - jnp.log(jnp.diag(inner)).sum() - 3 * np.log(2 * np.pi)
            return location + root @ z, term

        whole = jnp.concatenate([jnp.array([0.3, 0.6]), u])

        def both(place):
            def value(whole):
                return through(place, whole[:2], whole[2:])

            return jax.jit(lambda whole: (jax.grad(value)(whole), jax.hessian(value)(whole)))

        for a, b in zip(both(plain)(whole), both(informed_function)(whole), strict=True):
            np.testing.assert_allclose(a, b, rtol=1e-7, atol=1e-7)


class Posterior(unittest.TestCase):
    def test_counts_against_importance_sampling(self):
        y = np.array([3, 5, 2, 0, 1, 0])
        model = mw.Model(priors=PRIORS, likelihood={"y": "poisson(log_rate=curve[x])"})
        settings = {"seed": 1, "progress": False, "draws": 2500}
        fits = [
            model.fit({"x": PLACES, "y": y}, method=method, **settings)
            for method in ("no_u_turn", "laplace_grid")
        ]
        make = np.random.default_rng(3)
        count = 600_000
        height = np.abs(make.normal(size=count))
        root = np.linalg.cholesky(covariance(1.0))
        curve = 0.5 + height[:, None] * (make.normal(size=(count, 6)) @ root.T)
        for fit in fits:
            self.assertTrue(fit.verdict.good)
            self.weighed(y, curve, ((height[:, None], fit["height"]), (curve, fit["curve"])))

    def test_a_walk_of_counts_against_importance_sampling(self):
        y = np.array([2, 1, 4, 6, 3, 8])
        priors = {
            "step": "half_normal(0.5)",
            "level": "random_walk(start=0.5, scale=step, drift=0.1) per x",
        }
        model = mw.Model(priors=priors, likelihood={"y": "poisson(log_rate=level[x])"})
        settings = {"seed": 1, "progress": False}
        fit = model.fit({"x": PLACES, "y": y}, draws=2500, target_acceptance=0.95, **settings)
        self.assertEqual(fit.record.groups["level"]["form"], "informed")
        self.assertTrue(fit.verdict.good)
        self.assertEqual(chosen(model, "level", "non-centred", y=200 + y), "non-centred")
        make = np.random.default_rng(3)
        step = 0.5 * np.abs(make.normal(size=400_000))
        walk = np.cumsum(make.normal(size=(400_000, 6)), axis=1)
        level = 0.5 + 0.1 * np.arange(6) + step[:, None] * walk
        self.weighed(y, level, ((step[:, None], fit["step"]), (level, fit["level"])))

    def weighed(self, y, curve, pairs):
        """Compare draws with prior draws weighed by the likelihood of counts."""
        logs = (y * curve - np.exp(curve)).sum(axis=1)
        weights = np.exp(logs - logs.max())
        weights /= weights.sum()
        for values, found in pairs:
            drawn = found.values.reshape(*found.shape[:2], -1)
            mean = weights @ values
            error = np.sqrt(weights**2 @ (values - mean) ** 2)
            away = (drawn.mean(axis=(0, 1)) - mean) / np.hypot(error, mean_error(drawn))
            self.assertLess(np.abs(away).max(), 4.5)
            spread = np.sqrt(weights @ (values - mean) ** 2)
            np.testing.assert_allclose(drawn.std(axis=(0, 1)), spread, rtol=0.06)

    def test_known_noise_against_the_form_with_noise_summed_out(self):
        y = np.sin(PLACES)
        latent = mw.Model(priors=PRIORS, likelihood={"y": "normal(curve[x], 0.3)"})
        summed = mw.Model(
            priors={"height": PRIORS["height"]},
            likelihood={"y": f"gaussian_process(0.5, kernel={KERNEL}, noise=0.3)"},
        )
        one, other = (
            m.fit({"x": PLACES, "y": y}, seed=2, progress=False, draws=1500)["height"].values
            for m in (latent, summed)
        )
        error = np.hypot(mean_error(one[..., None])[0], mean_error(other[..., None])[0])
        self.assertLess(abs(one.mean() - other.mean()), 4.5 * error)
        self.assertAlmostEqual(one.std() / other.std(), 1.0, delta=0.08)

    def test_only_where_the_information_is_limited(self):
        count = np.array([1, 0, 2, 3, 1, 0])
        for likelihood, form in (
            ({"y": "poisson(log_rate=curve[x])"}, "informed"),
            ({"y": "normal(curve[x], 0.5)"}, "informed"),
            ({"y": "normal(curve[x], noise)"}, "informed"),
            ({"y": "student_t(curve[x], noise, df=4)"}, "non-centred"),
            ({"y": "normal(0, exp(curve[x]))"}, "informed"),
            ({"y": "normal(0, noise * exp(curve[x]))"}, "informed"),
        ):
            with self.subTest(likelihood=likelihood):
                self.assertEqual(form_of(likelihood, y=count), form)


if __name__ == "__main__":
    unittest.main()
