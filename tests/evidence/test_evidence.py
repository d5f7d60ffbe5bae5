"""Evidences against exact values; what refuses them, and what they are not trusted for."""

import unittest

import numpy as np
from scipy import stats
from scipy.integrate import quad
from scipy.special import betaln, gammaln, logsumexp

import millwright as mw
from millwright.errors import ModelError, SamplingError
from millwright.evidence.annealed import annealed
from millwright.evidence.bridge import bridge
from millwright.evidence.quadrature import log_integral
from tests.fits import straight

RANDOM = np.random.default_rng(11)
Y = RANDOM.normal(1, 1, 20)
LEVEL = mw.Model(priors={"level": "normal(0, 2)"}, likelihood={"y": "normal(level, 1)"})


def exact_level(y):
    return stats.multivariate_normal(np.zeros(len(y)), np.eye(len(y)) + 4.0).logpdf(y)


def exact_pair(z):
    """Return the log evidence of an even mixture of two normals with means of prior sd 3."""
    grid = np.linspace(-24, 24, 1201)
    each = stats.norm(grid[:, None], 1).logpdf(z)
    pairs = np.logaddexp(each[:, None], each[None]).sum(axis=2) - len(z) * np.log(2)
    prior = stats.norm(0, 3).logpdf(grid)
    return logsumexp(pairs + prior[:, None] + prior) + 2 * np.log(grid[1] - grid[0])


def fit(model, data, **settings):
    return model.fit(data, progress=False, **{"seed": 3, "draws": 500, "warmup": 500, **settings})


class Exact(unittest.TestCase):
    def near(self, posterior, exact, **asked):
        found = posterior.evidence(**asked)
        self.assertLess(abs(found.log_value - exact), 4 * found.standard_error + 1e-6, str(found))
        self.assertTrue(found.trusted, str(found))
        return found

    def test_few_unknowns_by_quadrature(self):
        found = self.near(fit(LEVEL, {"y": Y}), exact_level(Y), second=True)
        self.assertIn("quadrature", found.method)
        self.assertEqual(set(found.checks), {"bridge", "annealed sequential Monte Carlo"})
        shares = mw.Model(
            priors={"p": "beta(alpha=2, beta=3)"},
            likelihood={"cracked": "binomial(trials=stones, probability=p)"},
        )
        exact = np.log(120 * 792) + betaln(10, 17) - betaln(2, 3)
        self.near(fit(shares, {"cracked": [3, 5], "stones": [10, 12]}), exact)
        counts = np.array([2.0, 5.0, 3.0, 1.0])
        rate = mw.Model(
            priors={"r": "gamma(shape=3, rate=2)"}, likelihood={"c": "poisson(rate=r)"}
        )
        exact = (
            3 * np.log(2) - gammaln(3) + gammaln(14) - 14 * np.log(6) - gammaln(counts + 1).sum()
        )
        self.near(fit(rate, {"c": counts}), exact)

    def test_constants_of_special_priors(self):
        kinds = list("abbcccabca")
        shares = mw.Model(
            priors={"w": "dirichlet(concentration=[1, 2, 1]) per kind"},
            likelihood={"kind": "categorical(probabilities=w)"},
        )
        prior, seen = np.array([1.0, 2.0, 1.0]), np.array([3.0, 3.0, 4.0])
        exact = gammaln(4) - gammaln(prior).sum() + gammaln(prior + seen).sum() - gammaln(14)
        self.near(fit(shares, {"kind": kinds}), exact)
        cut = mw.Model(
            priors={"level": "normal(0, 2, low=0.5, high=3)"},
            likelihood={"y": "normal(level, 1)"},
        )
        inside = stats.norm(Y.sum() / 20.25, 1 / np.sqrt(20.25))
        prior_cut = stats.norm(0, 2)
        exact = exact_level(Y) + np.log(inside.cdf(3) - inside.cdf(0.5))
        exact -= np.log(prior_cut.cdf(3) - prior_cut.cdf(0.5))
        self.near(fit(cut, {"y": Y}), exact)

    def test_two_components_in_order(self):
        z = np.array([-2.2, -1.5, -2.6, -1.9, 2.3, 1.4])
        model = mw.Model(
            priors={"c": "ordered(normal(0, 3)) per part"},
            labels={"part": ["low", "high"]},
            likelihood={"z": "mixture(normal(c, 1), weights=[0.5, 0.5])"},
        )
        found = self.near(fit(model, {"z": z}), exact_pair(z))
        self.assertNotIn("exchanged", str(found))
        free = mw.Model(
            priors={"c": "normal(0, 3) per part"},
            labels={"part": ["low", "high"]},
            likelihood={"z": "mixture(normal(c, 1), weights=[0.5, 0.5])"},
        )
        with self.assertRaisesRegex(SamplingError, "not converged"):
            fit(free, {"z": z}).evidence()
        # Independent draws are in both copies, and so have the whole.
        method = mw.Rejection(candidate="prior")
        whole = self.near(fit(free, {"z": z[:2]}, method=method), exact_pair(z[:2]))
        self.assertIn("2 equal copies", str(whole))

    def test_a_hierarchy_in_every_form(self):
        groups = np.repeat(np.arange(8), 4)
        z = RANDOM.normal(0, 1, 8)[groups] + RANDOM.normal(0, 1, 32)
        same = (groups[:, None] == groups[None]).astype(float)

        def density(tau):
            covariance = np.eye(32) + tau**2 * same + 1.0
            log = stats.multivariate_normal(np.zeros(32), covariance).logpdf(z)
            return np.exp(log + stats.halfnorm(scale=2).logpdf(tau) + 50)

        exact = np.log(quad(density, 0, 12, epsabs=1e-13)[0]) - 50
        model = mw.Model(
            priors={"mu": "normal(0, 1)", "tau": "half_normal(2)", "e": "normal(mu, tau) per g"},
            likelihood={"z": "normal(e[g], 1)"},
        )
        for form in ("informed", "non-centred"):
            posterior = fit(
                model, {"z": z, "g": groups.astype(str)}, draws=1000, parameterisation=form
            )
            found = posterior.evidence()
            self.assertLess(abs(found.log_value - exact), 4 * found.standard_error, form)
            self.assertIn("bridge", found.method)
            self.assertLess(found.standard_error, 0.05)

    def test_missing_values_among_the_unknowns(self):
        x, y = np.array([np.nan, 0.3, -0.5, 1.2, 0.1]), np.array([0.7, 0.2, -0.1, 0.9, 0.3])
        model = mw.Model(
            priors={"m": "normal(0, 1)", "b": "normal(0, 1)"},
            likelihood={"x": "normal(m, 1)", "y": "normal(b * x, 1)"},
        )
        grid = np.linspace(-7, 7, 501)
        m, b = np.meshgrid(grid, grid, indexing="ij")
        logs = stats.norm(0, 1).logpdf(m) + stats.norm(0, 1).logpdf(b)
        for seen, reading in zip(x[1:], y[1:], strict=True):
            logs += stats.norm(m, 1).logpdf(seen) + stats.norm(b * seen, 1).logpdf(reading)
        # The missing x is summed out: y is then normal with a larger variance.
        logs += stats.norm(b * m, np.sqrt(1 + b**2)).logpdf(y[0])
        exact = logsumexp(logs) + 2 * np.log(grid[1] - grid[0])
        found = fit(model, {"x": x, "y": y}).evidence(second=True)
        self.assertAlmostEqual(found.log_value, exact, places=4)
        self.assertTrue(found.trusted, str(found))
        self.assertIn("no missing values", str(found))

    def test_a_process_with_known_constants(self):
        x = np.linspace(0, 4, 9)
        y = np.sin(x) + RANDOM.normal(0, 0.2, 9)
        model = mw.Model(
            priors={"height": "normal(0, 1)"},
            likelihood={
                "y": "gaussian_process(height, noise=0.2, "
                "kernel=squared_exponential(x, scale=1, length=1.5))"
            },
        )
        distance = x[:, None] - x
        covariance = np.exp(-0.5 * (distance / 1.5) ** 2) + 0.04 * np.eye(9) + 1.0
        exact = stats.multivariate_normal(np.zeros(9), covariance).logpdf(y)
        self.near(fit(model, {"x": x, "y": y}), exact)

    def test_thirty_unknowns(self):
        x, y = RANDOM.normal(size=(2, 60))
        day = np.repeat(np.arange(30), 2)
        model = mw.Model(
            priors={"m": "normal(0, 1) per day"}, likelihood={"y": "normal(m[day] + x, 1)"}
        )
        covariance = np.eye(60) + (day[:, None] == day)
        exact = stats.multivariate_normal(np.zeros(60), covariance).logpdf(y - x)
        self.near(fit(model, {"x": x, "y": y, "day": day}, draws=1000), exact)

    def test_many_rows_that_are_gathered(self):
        x = RANDOM.uniform(0, 1, 1500)
        y = 1 + 2 * x + RANDOM.normal(0, 0.5, 1500)
        model = mw.Model(
            priors={"a": "normal(0, 2)", "b": "normal(0, 3)"},
            likelihood={"y": "normal(a + b * x, 0.5)"},
        )
        columns = np.column_stack([np.ones(1500), x])
        covariance = 0.25 * np.eye(1500) + columns @ np.diag([4.0, 9.0]) @ columns.T
        exact = stats.multivariate_normal(np.zeros(1500), covariance).logpdf(y)
        found = fit(model, {"x": x, "y": y}).evidence()
        self.assertLess(abs(found.log_value - exact), 1e-5)


class Methods(unittest.TestCase):
    def test_bridge_of_normal_draws_in_many_dimensions(self):
        for dimension in (1, 30, 100):
            matrix = np.eye(dimension) + 0.3
            exact = stats.multivariate_normal(np.zeros(dimension), matrix)
            draws = exact.rvs(4000, random_state=RANDOM).reshape(4, 1000, dimension)
            found = bridge(draws, lambda q, e=exact: np.ravel(e.logpdf(q)) + 3.0, RANDOM)
            self.assertLess(abs(found.log_value - 3.0), 4 * found.standard_error)
            self.assertLess(found.standard_error, 0.04)

    def test_quadrature_is_exact_for_tilted_and_heavy_tails(self):
        matrix = np.array([[1.0, 1.2], [1.2, 4.0]])
        exact = stats.multivariate_normal([1, 2], matrix)
        found = log_integral(lambda q: exact.logpdf(q) + 5.0, np.zeros(2), np.eye(2))
        self.assertAlmostEqual(found.log_value, 5.0, places=9)
        self.assertTrue(found.settled)
        heavy = stats.t(5, loc=2)
        found = log_integral(lambda q: heavy.logpdf(q[:, 0]), np.zeros(1), np.eye(1))
        self.assertAlmostEqual(found.log_value, 0.0, places=7)

    def test_annealing_finds_both_humps(self):
        def split(q):
            prior = stats.norm(0, 5).logpdf(q).sum(axis=1)
            humps = [stats.norm(-4, 0.5).logpdf(q).sum(axis=1) + np.log(0.3)]
            humps.append(stats.norm(3, 1).logpdf(q).sum(axis=1) + np.log(0.7))
            return prior, logsumexp(humps, axis=0)

        exact = logsumexp(
            [
                np.log(0.3) + 2 * stats.norm(0, np.sqrt(25.25)).logpdf(4),
                np.log(0.7) + 2 * stats.norm(0, np.sqrt(26)).logpdf(3),
            ]
        )
        found = annealed(lambda g, n: 5 * g.standard_normal((n, 2)), split, RANDOM)
        self.assertLess(abs(found.log_value - exact), 4 * found.standard_error)


class Refused(unittest.TestCase):
    def test_what_has_no_evidence(self):
        flat = mw.Model(priors={"m": "flat()"}, likelihood={"y": "normal(m, 1)"})
        with self.assertRaisesRegex(ModelError, "flat and improper"):
            fit(flat, {"y": Y}).evidence()
        terms = mw.Model(
            priors={"m": "normal(0, 2)"},
            likelihood={"y": "normal(m, 1)"},
            log_density_terms={"soft": "-(m - 1) ** 2"},
        )
        posterior = fit(terms, {"y": Y})
        with self.assertRaisesRegex(ModelError, "unnormalised=True"):
            posterior.evidence()
        found = posterior.evidence(unnormalised=True)
        self.assertFalse(found.normalised)
        self.assertIn("constant that is not known", str(found))
        both = mw.bayes_factors(a=posterior, b=posterior, unnormalised=True)
        self.assertIn("all constants of `a`", str(both))
        with self.assertRaisesRegex(ModelError, "Bayes factor is not defined"):
            fit(flat, {"y": Y}).bayes_factor("m < 0")
        approximate = LEVEL.normal_approximation({"y": Y}, draws=500)
        with self.assertRaisesRegex(ModelError, "approximation"):
            approximate.evidence()

    def test_a_trial_is_not_trusted(self):
        found = fit(LEVEL, {"y": Y}, draws=200, trial=True).evidence()
        self.assertFalse(found.trusted)
        self.assertIn("NOT TO BE TRUSTED", str(found))
        self.assertIn("trial", str(found))

    def test_a_mode_that_the_draws_miss_is_shown_by_the_second_method(self):
        two = mw.Model(
            priors={"m": "normal(0, 5)"},
            likelihood={"y": "mixture(normal(m, 1), normal(-m, 1), share=0.5)"},
        )
        y = np.array([3.0, 3.5, 2.5, 3.2])
        posterior = fit(two, {"y": y}, start=[{"m": 3.0}] * 4)
        # One mode is known only by what the search found, so the verdict stops the evidence.
        with self.assertRaises(SamplingError):
            posterior.evidence()

    def test_record_is_plain(self):
        found = straight().evidence()
        record = found.record
        self.assertEqual(record["log_value"], found.log_value)
        self.assertAlmostEqual(record["log10_value"], found.log_value / np.log(10))
