"""Every distribution against SciPy's, by quadrature, by its draws, and by differences."""

import unittest

import jax
import numpy as np
from scipy import integrate, stats

import millwright as mw
from millwright.distributions import on_jax, on_numpy
from millwright.distributions.family import Family
from millwright.distributions.registry import DISTRIBUTIONS, family_for


class Angle:
    """SciPy's von Mises distribution, cut open at -pi instead of opposite the centre."""

    def __init__(self, location, concentration):
        self.given = stats.vonmises(concentration, loc=location)
        self.logpdf = self.given.logpdf

    def cdf(self, x):
        return self.given.cdf(x) - self.given.cdf(-np.pi)

    def logsf(self, x):
        return np.log(self.given.cdf(np.pi) - self.given.cdf(x))


# Arguments, the same distribution from SciPy (the independent reference), and points.
CONTINUOUS = {
    "normal": [({"location": 1.5, "scale": 2.0}, stats.norm(1.5, 2.0))],
    "student_t": [
        ({"location": 1.0, "scale": 2.0, "df": 3.5}, stats.t(3.5, 1.0, 2.0)),
        ({"location": 0.0, "scale": 1.0, "df": 0.7}, stats.t(0.7)),
    ],
    "cauchy": [({"location": -1.0, "scale": 0.5}, stats.cauchy(-1.0, 0.5))],
    "half_normal": [({"scale": 2.0}, stats.halfnorm(scale=2.0))],
    "half_student_t": [({"scale": 2.0, "df": 4.0}, None)],
    "half_cauchy": [({"scale": 2.0}, stats.halfcauchy(scale=2.0))],
    "exponential": [({"rate": 0.5}, stats.expon(scale=2.0))],
    "gamma": [
        ({"shape": 2.5, "rate": 3.0}, stats.gamma(2.5, scale=1 / 3.0)),
        ({"shape": 0.4, "rate": 1.0}, stats.gamma(0.4)),
    ],
    "inverse_gamma": [({"shape": 3.0, "scale": 2.0}, stats.invgamma(3.0, scale=2.0))],
    "beta": [
        ({"alpha": 2.0, "beta": 3.5}, stats.beta(2.0, 3.5)),
        ({"alpha": 0.5, "beta": 0.7}, stats.beta(0.5, 0.7)),
    ],
    "uniform": [({"low": -1.0, "high": 3.0}, stats.uniform(-1.0, 4.0))],
    "logistic": [({"location": 1.0, "scale": 0.7}, stats.logistic(1.0, 0.7))],
    "laplace": [({"location": -1.0, "scale": 0.7}, stats.laplace(-1.0, 0.7))],
    "gumbel": [({"location": 0.5, "scale": 2.0}, stats.gumbel_r(0.5, 2.0))],
    "weibull": [
        ({"shape": 1.7, "scale": 2.0}, stats.weibull_min(1.7, scale=2.0)),
        ({"shape": 0.6, "scale": 1.0}, stats.weibull_min(0.6)),
    ],
    "skew_normal": [
        ({"location": 1.0, "scale": 2.0, "shape": 3.0}, stats.skewnorm(3.0, 1.0, 2.0)),
        ({"location": 0.0, "scale": 1.0, "shape": -1.5}, stats.skewnorm(-1.5)),
    ],
    "von_mises": [
        ({"location": 0.5, "concentration": 2.0}, Angle(0.5, 2.0)),
        # Above 50 SciPy changes to an approximation.
        ({"location": 2.8, "concentration": 40.0}, Angle(2.8, 40.0)),
    ],
    "pareto": [({"shape": 2.5, "scale": 1.5}, stats.pareto(2.5, scale=1.5))],
    "lognormal": [({"location": 0.3, "scale": 0.8}, stats.lognorm(0.8, scale=np.exp(0.3)))],
}
COUNTS = {
    "bernoulli": [
        ({"probability": 0.3}, stats.bernoulli(0.3)),
        ({"log_odds": -1.2}, stats.bernoulli(1 / (1 + np.exp(1.2)))),
    ],
    "binomial": [
        ({"trials": 12.0, "probability": 0.3}, stats.binom(12, 0.3)),
        ({"trials": 12.0, "log_odds": 2.0}, stats.binom(12, 1 / (1 + np.exp(-2.0)))),
        ({"trials": 4.0, "probability": 0.0}, stats.binom(4, 0.0)),
    ],
    "poisson": [
        ({"rate": 3.7}, stats.poisson(3.7)),
        ({"log_rate": 1.0}, stats.poisson(np.e)),
    ],
    "geometric": [
        ({"probability": 0.3}, stats.geom(0.3, loc=-1)),
        ({"log_odds": -0.5}, stats.geom(1 / (1 + np.exp(0.5)), loc=-1)),
    ],
    "beta_binomial": [
        ({"trials": 9.0, "alpha": 1.5, "beta": 3.0}, stats.betabinom(9, 1.5, 3.0)),
    ],
    "negative_binomial": [({"mean": 4.0, "shape": 1.5}, stats.nbinom(1.5, 1.5 / 5.5))],
}
PROBABILITIES = np.array([1e-6, 0.01, 0.2, 0.5, 0.9, 0.999])


class Continuous(unittest.TestCase):
    many = 40_000

    def cases(self):
        for name, cases in CONTINUOUS.items():
            for p, given in cases:
                yield name, DISTRIBUTIONS[name], p, given

    def test_log_density_and_distribution_function_agree_with_scipy(self):
        for name, family, p, given in self.cases():
            with self.subTest(name=name, p=p):
                x = family.quantile(PROBABILITIES, p)
                if given is None:
                    t = stats.t(p["df"], scale=p["scale"])
                    want, cdf = t.logpdf(x) + np.log(2), 1 - 2 * t.sf(x)
                    survival = np.log(2) + t.logsf(x)
                else:
                    want, cdf, survival = given.logpdf(x), given.cdf(x), given.logsf(x)
                np.testing.assert_allclose(family.log_density(on_numpy, x, p), want, rtol=1e-9)
                np.testing.assert_allclose(family.log_density(on_jax, x, p), want, rtol=1e-9)
                np.testing.assert_allclose(family.cdf(x, p), cdf, rtol=1e-7, atol=1e-15)
                np.testing.assert_allclose(
                    family.log_survival(on_numpy, x, p), survival, rtol=1e-7, atol=1e-12
                )
                np.testing.assert_allclose(
                    family.log_survival(on_jax, x, p), survival, rtol=1e-7, atol=1e-12
                )

    def test_quantiles_invert_the_distribution_function(self):
        for name, family, p, _ in self.cases():
            with self.subTest(name=name, p=p):
                back = family.cdf(family.quantile(PROBABILITIES, p), p)
                np.testing.assert_allclose(back, PROBABILITIES, rtol=1e-6)

    def test_quantiles_of_0_and_1_are_the_ends_of_the_range(self):
        for name, family, p, _ in self.cases():
            with self.subTest(name=name, p=p), np.errstate(all="ignore"):
                support = family.support(p)
                low = -np.inf if support.lower is None else support.lower
                high = np.inf if support.upper is None else support.upper
                found = family.quantile(np.array([0.0, 1.0]), p)
                np.testing.assert_allclose(found, [low, high], rtol=1e-12, atol=1e-12)

    def test_far_upper_tails_keep_their_digits(self):
        for name, family, p, _ in self.cases():
            if name in ("uniform", "beta", "von_mises"):
                continue
            with self.subTest(name=name, p=p):
                x = family.survival_quantile(np.array([1e-12]), p)
                tail = np.exp(family.log_survival(on_numpy, x, p))
                np.testing.assert_allclose(tail, 1e-12, rtol=1e-5)

    def test_draws_follow_the_distribution_function(self):
        for name, family, p, _ in self.cases():
            with self.subTest(name=name, p=p):
                draws = family.draw(np.random.default_rng(11), (4000,), p)
                level = stats.kstest(draws, lambda x, f=family, q=p: f.cdf(x, q)).pvalue
                self.assertGreater(level, 1e-4)

    def test_mean_is_that_of_the_draws_or_does_not_exist(self):
        for name, family, p, _ in self.cases():
            mean = float(family.mean(p))
            if not np.isfinite(mean):
                continue
            with self.subTest(name=name, p=p):
                draws = family.draw(np.random.default_rng(12), (self.many,), p)
                error = draws.std() / np.sqrt(draws.size)
                self.assertLess(abs(draws.mean() - mean), 5 * error)

    def gradient_cases(self):
        return self.cases()

    def test_gradients_agree_with_differences(self):
        for name, family, p, _ in self.gradient_cases():
            at = {**p, "x": float(family.quantile(np.array([0.3]), p)[0])}

            def value(q, m=on_jax, family=family):
                return family.log_density(m, q["x"], {k: v for k, v in q.items() if k != "x"})

            gradient = jax.grad(value)(at)
            for what, exact in gradient.items():
                with self.subTest(name=name, by=what):
                    step = 1e-5 * max(1.0, abs(at[what]))
                    up, down = (
                        float(value({**at, what: at[what] + sign * step}, on_numpy))
                        for sign in (1, -1)
                    )
                    numeric = (up - down) / (2 * step)
                    self.assertAlmostEqual(
                        float(exact), numeric, delta=2e-5 * max(1.0, abs(numeric))
                    )


class Truncated(Continuous):
    """Truncation of every continuous family, on either side and both."""

    many = 8000  # Some are drawn by a search for each.

    def cut_cases(self):
        for name, cases in CONTINUOUS.items():
            family = DISTRIBUTIONS[name]
            if not family.truncatable:
                continue
            for p, _ in cases:
                low, high = (float(v) for v in family.quantile(np.array([0.15, 0.8]), p))
                for bounds in ({"low": low}, {"high": high}, {"low": low, "high": high}):
                    yield name, family_for(name, frozenset(bounds)), {**p, **bounds}, None

    def cases(self):
        return self.cut_cases()

    def gradient_cases(self):
        seen = set()
        for name, family, p, given in self.cut_cases():
            if {"low", "high"} <= set(p) and name not in seen:
                seen.add(name)
                yield name, family, p, given

    def test_log_density_and_distribution_function_agree_with_scipy(self):
        for name, family, p, _ in self.cases():
            with self.subTest(name=name, p=p):
                support = family.support(p)
                low = -np.inf if support.lower is None else support.lower
                high = np.inf if support.upper is None else support.upper
                middle = float(family.quantile(np.array([0.5]), p)[0])

                def density(x, family=family, p=p):
                    return float(np.exp(family.log_density(on_numpy, x, p)))

                with np.errstate(over="ignore"):
                    pieces = [
                        integrate.quad(density, a, b, limit=200)[0]
                        for a, b in ((low, middle), (middle, high))
                    ]
                np.testing.assert_allclose(pieces, [0.5, 0.5], rtol=2e-6)

    def test_far_upper_tails_keep_their_digits(self):
        p = {"location": 0.0, "scale": 1.0, "low": 30.0, "high": 31.0}
        family = family_for("normal", frozenset({"low", "high"}))
        mass = stats.norm.logsf(30.0)
        want = stats.norm.logpdf(30.02) - mass
        self.assertAlmostEqual(float(family.log_density(on_jax, 30.02, p)), want, places=6)
        draws = family.draw(np.random.default_rng(1), (100,), p)
        self.assertTrue(((draws >= 30) & (draws <= 31)).all())

    def test_gradients_stay_finite_in_far_tails(self):
        for low in (-40.0, -5.0, 0.0, 5.0, 40.0):
            for bounds in ({"low": low}, {"low": low, "high": low + 1}, {"high": low}):
                family = family_for("normal", frozenset(bounds))
                x = low - 0.5 if "low" not in bounds else low + 0.5

                def value(location, family=family, bounds=bounds, x=x):
                    p = {"location": location, "scale": 1.0, **bounds}
                    return family.log_density(on_jax, x, p)

                with self.subTest(bounds=bounds):
                    self.assertTrue(np.isfinite(jax.grad(value)(0.0)))

    def test_bound_outside_the_support_changes_nothing(self):
        family = family_for("gamma", frozenset({"low"}))
        p = {"shape": 2.0, "rate": 1.0}
        want = DISTRIBUTIONS["gamma"].log_density(on_numpy, 1.3, p)
        cut = family.log_density(on_jax, 1.3, {**p, "low": -1.0})
        self.assertAlmostEqual(float(cut), float(want))


class Counts(unittest.TestCase):
    def test_log_probability_and_distribution_function_agree_with_scipy(self):
        for name, cases in COUNTS.items():
            for p, given in cases:
                with self.subTest(name=name, p=p):
                    family = DISTRIBUTIONS[name]
                    top = given.ppf(0.9999)
                    x = np.arange(0, min(top, family.support(p).upper or np.inf) + 1)
                    x = np.resize(x, 40)  # one shape, so that JAX compiles each formula once
                    for m in (on_numpy, on_jax):
                        np.testing.assert_allclose(
                            family.log_density(m, x, p), given.logpmf(x), rtol=1e-9, atol=1e-12
                        )
                        with np.errstate(divide="ignore"):
                            np.testing.assert_allclose(
                                np.exp(family.log_cdf(m, x, p)), given.cdf(x), rtol=1e-8
                            )
                            np.testing.assert_allclose(
                                np.exp(family.log_survival(m, x, p)),
                                given.sf(x),
                                rtol=1e-6,
                                atol=1e-14,
                            )
                    q = np.array([0.02, 0.4, 0.5, 0.97])
                    np.testing.assert_array_equal(family.quantile(q, p), given.ppf(q))
                    self.assertAlmostEqual(float(family.mean(p)), float(given.mean()), places=9)

    def test_draws_have_the_right_frequencies(self):
        for name, cases in COUNTS.items():
            p, given = cases[0]
            with self.subTest(name=name):
                draws = DISTRIBUTIONS[name].draw(np.random.default_rng(3), (20_000,), p)
                values = np.arange(given.ppf(0.01), given.ppf(0.99) + 1)
                for value in values:
                    share, want = np.mean(draws == value), given.pmf(value)
                    self.assertLess(abs(share - want), 5 * np.sqrt(want * (1 - want) / 20_000))

    def test_gradients_stay_finite_at_the_ends(self):
        family = DISTRIBUTIONS["binomial"]
        for x in (0.0, 5.0):
            grad = jax.grad(
                lambda v, x=x: family.log_density(on_jax, x, {"trials": 5.0, "log_odds": v})
            )
            for at in (-800.0, 0.0, 800.0):
                self.assertTrue(np.isfinite(grad(at)), (x, at))
        zero = jax.grad(lambda r: DISTRIBUTIONS["poisson"].log_density(on_jax, 0.0, {"rate": r}))
        self.assertEqual(float(zero(2.0)), -1.0)


class IncompleteBeta(unittest.TestCase):
    def test_derivatives_in_all_arguments_agree_with_differences(self):
        for a, b, x in ((2.0, 3.0, 0.3), (0.5, 0.5, 0.9), (30.0, 0.4, 0.99), (0.3, 5.0, 0.01)):
            for which in range(3):
                with self.subTest(a=a, b=b, x=x, which=which):
                    args = [np.float64(v) for v in (a, b, x)]
                    exact = float(jax.grad(on_jax.betainc, argnums=which)(*args))
                    h = 1e-6 * args[which]
                    up, down = list(args), list(args)
                    up[which] += h
                    down[which] -= h
                    numeric = (on_numpy.betainc(*up) - on_numpy.betainc(*down)) / (2 * h)
                    self.assertAlmostEqual(exact, numeric, delta=1e-6 * max(1, abs(numeric)))


class Registry(unittest.TestCase):
    def test_every_distribution_is_public_and_tested(self):
        numbers = {n for n, family in DISTRIBUTIONS.items() if isinstance(family, Family)}
        self.assertEqual(numbers, set(CONTINUOUS) | set(COUNTS))
        for name in DISTRIBUTIONS:
            self.assertTrue(callable(getattr(mw, name)))


if __name__ == "__main__":
    unittest.main()
