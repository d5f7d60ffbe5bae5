"""Densities where doubles run out: far tails, edges, very large arguments.

References are worked out with mpmath in 60 digits from the textbook formulas.
"""

import unittest

import jax
import jax.numpy as jnp
import mpmath as mp
import numpy as np

import millwright as mw
from millwright.distributions import on_jax, on_numpy, tails
from millwright.distributions.registry import family_for

F = mp.mpf


def digits(function):
    """Take doubles as the exact numbers that they are."""
    return lambda *arguments: function(*map(F, arguments))


@digits
def gamma(x, shape, rate):
    return shape * mp.log(rate) + (shape - 1) * mp.log(x) - rate * x - mp.loggamma(shape)


@digits
def inverse_gamma(x, shape):
    return -(shape + 1) * mp.log(x) - 1 / x - mp.loggamma(shape)


@digits
def gamma_above(shape, x):
    return mp.log(mp.gammainc(shape, x, mp.inf, regularized=True))


@digits
def gamma_below(shape, x):
    return mp.log(mp.gammainc(shape, 0, x, regularized=True))


@digits
def beta(x, a, b):
    ways = mp.loggamma(a + b) - mp.loggamma(a) - mp.loggamma(b)
    return ways + (a - 1) * mp.log(x) + (b - 1) * mp.log1p(-x)


@digits
def beta_above(a, b, x):
    return mp.log(mp.betainc(b, a, 0, 1 - x, regularized=True))


@digits
def student_t(x, df):
    tops = mp.loggamma((df + 1) / 2) - mp.loggamma(df / 2) - mp.log(df * mp.pi) / 2
    return tops - (df + 1) / 2 * mp.log1p(x * x / df)


@digits
def student_t_above(x, df):
    return mp.log(mp.betainc(df / 2, F(1) / 2, 0, df / (df + x * x), regularized=True) / 2)


@digits
def normal_above(x, low, scale):
    tail = mp.log(mp.erfc(low / scale / mp.sqrt(2)) / 2)
    return -((x / scale) ** 2) / 2 - mp.log(scale) - mp.log(2 * mp.pi) / 2 - tail


@digits
def normal_between(x, location, scale):
    """Of a density between -1 and 2 whose middle is many scales away."""
    density = lambda x: mp.exp(-(((x - location) / scale) ** 2) / 2)  # noqa: E731
    near = F(2) if location > 0 else F(-1)
    decays = [scale**2 / abs(location - near) * step for step in (0, 1, 4, 20, 80)]
    ends = sorted({min(max(near - mp.sign(location) * one, -1), 2) for one in (*decays, 10)})
    # Relative to the larger end, which mpmath holds whatever its exponent.
    return mp.log(density(x) / density(near)) - mp.log(
        mp.quad(lambda x: density(x) / density(near), ends)
    )


@digits
def poisson(x, rate):
    return x * mp.log(rate) - rate - mp.loggamma(x + 1)


@digits
def binomial(x, n, p):
    ways = mp.loggamma(n + 1) - mp.loggamma(x + 1) - mp.loggamma(n - x + 1)
    return ways + x * mp.log(p) + (n - x) * mp.log1p(-p)


@digits
def negative_binomial(x, mean, shape):
    ways = mp.loggamma(x + shape) - mp.loggamma(x + 1) - mp.loggamma(shape)
    return ways + shape * mp.log(shape / (shape + mean)) + x * mp.log(mean / (shape + mean))


@digits
def beta_binomial(x, n, a, b):
    ways = mp.loggamma(n + 1) - mp.loggamma(x + 1) - mp.loggamma(n - x + 1)
    above = mp.loggamma(x + a) + mp.loggamma(n - x + b) - mp.loggamma(n + a + b)
    return ways + above - mp.loggamma(a) - mp.loggamma(b) + mp.loggamma(a + b)


Z = {"location": 0.0, "scale": 1.0}
# family, place, arguments, exact value, and the exact value as a function of one argument.
CASES = [
    ("gamma", 801.0, {"shape": 2.0, "rate": 1.0, "low": 800.0},
     "shape", lambda s: gamma(801, s, 1) - gamma_above(s, 800)),
    ("gamma", 10001.0, {"shape": 0.5, "rate": 1.0, "low": 1e4},
     "shape", lambda s: gamma(10001, s, 1) - gamma_above(s, 1e4)),
    ("gamma", 0.9, {"shape": 200.0, "rate": 1.0, "high": 1.0},
     "shape", lambda s: gamma(0.9, s, 1) - gamma_below(s, 1)),
    ("beta", 0.96, {"alpha": 2.0, "beta": 400.0, "low": 0.95},
     "alpha", lambda a: beta(0.96, a, 400) - beta_above(a, 400, 0.95)),
    ("beta", 0.6, {"alpha": 20.0, "beta": 30.0, "low": 0.5},
     "alpha", lambda a: beta(0.6, a, 30) - beta_above(a, 30, 0.5)),
    ("student_t", 1.5e8, {**Z, "df": 200.0, "low": 1e8},
     "df", lambda d: student_t(1.5e8, d) - student_t_above(1e8, d)),
    ("student_t", 3.0, {**Z, "df": 4.0, "low": 2.0},
     "df", lambda d: student_t(3, d) - student_t_above(2, d)),
    ("student_t", 1e200, {**Z, "df": 3.0}, "df", lambda d: student_t(1e200, d)),
    ("cauchy", 1e200, Z, "", lambda: student_t(1e200, 1)),
    ("inverse_gamma", 1.1e5, {"shape": 80.0, "scale": 1.0, "low": 1e5},
     "shape", lambda s: inverse_gamma(1.1e5, s) - gamma_below(s, F(1) / F(1e5))),
    ("inverse_gamma", 0.9e-3, {"shape": 3.0, "scale": 1.0, "high": 1e-3},
     "shape", lambda s: inverse_gamma(0.9e-3, s) - gamma_above(s, F(1) / F(1e-3))),
    ("gumbel", 801.0, {**Z, "low": 800.0}, "", lambda: F(-1)),
    ("normal", 0.5, {"location": 3.0, "scale": 1e-3, "low": -1.0, "high": 2.0},
     "scale", lambda s: normal_between(0.5, 3, s)),
    ("normal", 0.5, {"location": 1e20, "scale": 3e13, "low": -1.0, "high": 2.0},
     "scale", lambda s: normal_between(0.5, 1e20, s)),
    ("normal", 0.5, {"location": -1e8, "scale": 4e3, "low": -1.0, "high": 2.0},
     "scale", lambda s: normal_between(0.5, -1e8, s)),
    ("laplace", 0.5, {"location": 1e20, "scale": 1e16, "low": -1.0, "high": 2.0},
     "", lambda: -mp.log(3)),
    ("normal", 1e6 + 3e-6, {**Z, "low": 1e6},
     "scale", lambda s: normal_above(1e6 + 3e-6, 1e6, s)),
    ("geometric", 0.0, {"probability": 1.0}, "", lambda: F(0)),
    ("bernoulli", 1.0, {"probability": 1.0}, "", lambda: F(0)),
    ("bernoulli", 0.0, {"probability": 0.0}, "", lambda: F(0)),
    ("poisson", 0.0, {"rate": 0.0}, "", lambda: F(0)),
    ("poisson", 1e9 + 3e4, {"rate": 1e9}, "rate", lambda r: poisson(1e9 + 3e4, r)),
    ("poisson", 1e15, {"rate": 1e15}, "", lambda: poisson(1e15, 1e15)),
    ("binomial", 300_100_000.0, {"trials": 1e9, "probability": 0.3},
     "probability", lambda p: binomial(300_100_000, 1e9, p)),
    ("negative_binomial", 1e9, {"mean": 1e9, "shape": 1e9},
     "", lambda: negative_binomial(1e9, 1e9, 1e9)),
    ("negative_binomial", 1e9, {"mean": 1e9, "shape": 2.0},
     "shape", lambda r: negative_binomial(1e9, 1e9, r)),
    ("beta_binomial", 500.0, {"trials": 1e3, "alpha": 1e9, "beta": 1e9},
     "", lambda: beta_binomial(500, 1e3, 1e9, 1e9)),
    ("beta_binomial", 3.0, {"trials": 10.0, "alpha": 0.5, "beta": 0.7},
     "alpha", lambda a: beta_binomial(3, 10, a, 0.7)),
    ("gamma", 1.0, {"shape": 1e9, "rate": 1e9}, "", lambda: gamma(1, 1e9, 1e9)),
]  # fmt: skip


class Extremes(unittest.TestCase):
    def test_values_and_gradients(self):
        for name, x, arguments, varied, exact in CASES:
            with self.subTest(name=name, arguments=arguments):
                family = family_for(name, frozenset(arguments))
                with mp.workdps(60):
                    wanted = float(exact(*([arguments[varied]] if varied else [])))
                plain = {key: np.asarray(value) for key, value in arguments.items()}
                with np.errstate(all="ignore"):
                    found = float(family.log_density(on_numpy, np.asarray(x), plain))
                traced = {key: jnp.asarray(value) for key, value in arguments.items()}

                def density(p, family=family, x=x):
                    return family.log_density(on_jax, jnp.asarray(x), p)

                value, gradient = jax.value_and_grad(density)(traced)
                np.testing.assert_allclose(found, wanted, rtol=1e-10, atol=1e-10)
                np.testing.assert_allclose(float(value), wanted, rtol=1e-10, atol=1e-10)
                self.assertTrue(np.isfinite(list(gradient.values())).all(), gradient)
                if varied:
                    with mp.workdps(60):
                        slope = float(mp.diff(exact, F(arguments[varied])))
                    # Two doubles near ten are told apart to 1e-15, however small their difference.
                    found_slope = float(gradient[varied])
                    np.testing.assert_allclose(found_slope, slope, rtol=1e-6, atol=1e-11)

    def test_a_prior_cut_far_out_can_be_sampled(self):
        model = mw.Model(
            priors={"level": "normal(0, 1, low=20)"}, likelihood={"y": "normal(level, 100)"}
        )
        found = model.fit({"y": [20.0]}, seed=1, draws=500, progress=False)["level"].values
        # Far out the excess is close to exponential with mean 1 / 20.
        self.assertLess(abs(found.mean() - 20 - 1 / 20.1), 0.006)
        self.assertGreaterEqual(found.min(), 20.0)


class FarCuts(unittest.TestCase):
    def test_what_is_left_of_tails_too_small_for_a_number_has_quantiles_and_a_mean(self):
        q = np.array([0.0, 0.02, 0.5, 0.97, 1.0])
        scaled = {"location": 0.5, "scale": 2.0}
        for name, arguments, low, high in (
            ("normal", scaled, 90.0, np.inf),
            ("normal", scaled, -np.inf, -90.0),
            ("normal", scaled, 90.0, 90.02),
            ("normal", scaled, -91.0, -90.0),
            ("logistic", scaled, 3e3, np.inf),
            ("gumbel", scaled, 2e3, 2e3 + 3),
            ("exponential", {"rate": 3.0}, 900.0, np.inf),
            ("gamma", {"shape": 3.0, "rate": 2.0}, 700.0, np.inf),
            ("skew_normal", {**scaled, "shape": 4.0}, 120.0, np.inf),
        ):
            bounds = {"low": low, "high": high}
            p = arguments | {key: value for key, value in bounds.items() if np.isfinite(value)}
            family, uncut = (family_for(name, frozenset(each)) for each in (p, arguments))
            with self.subTest(name=name, **bounds):
                x = family.quantile(q, p)
                np.testing.assert_array_equal(x[[0, -1]], [low, high])
                above = 0 < low < np.inf
                tail = uncut.log_survival if above else uncut.log_cdf
                logs = np.asarray(tail(on_numpy, x, arguments))
                inner, outer = np.exp(logs - logs[0 if above else -1])[[1, 2, 3]], 0.0
                if np.isfinite([low, high]).all():
                    outer = np.exp(abs(logs[-1] - logs[0]) * -1)
                share = (1 - inner) / (1 - outer) if above else (inner - outer) / (1 - outer)
                np.testing.assert_allclose(share, q[1:4], rtol=1e-8)
                inside = family.quantile((np.arange(4000) + 0.5) / 4000, p)
                near = low if above else high
                self.assertAlmostEqual(
                    float(family.mean(p)) / near, inside.mean() / near, delta=1e-3 * np.ptp(x[1:4])
                )

    def test_between_ends_where_nothing_falls_all_is_as_likely(self):
        q = np.array([0.0, 0.25, 0.5, 1.0])
        for location in (1e20, -1e20):
            p = {"location": location, "scale": 3e13, "low": -1.0, "high": 2.0}
            found = family_for("normal", frozenset(p)).quantile(q, p)
            np.testing.assert_allclose(found, -1 + 3 * q, atol=1e-6)


class Large(unittest.TestCase):
    def test_binomials_of_large_arguments_and_their_derivatives_are_those_of_all(self):
        hits, misses = np.array([2e4, 3e6, 5e7]), np.array([5e4, 1.5e4, 2e8])
        logs = [np.log(part / (hits + misses)) for part in (hits * 1.001, misses)]

        def short(hits, misses, log_p, log_q):
            return on_jax.log_large_binomial(hits, misses, log_p, log_q).sum()

        def whole(hits, misses, log_p, log_q):
            return on_jax.log_binomial(hits, hits + misses, log_p, log_q).sum()

        every = (0, 1, 2, 3)
        found, wanted = (
            jax.value_and_grad(function, every)(hits, misses, *logs) for function in (short, whole)
        )
        self.assertAlmostEqual(found[0], wanted[0], delta=1e-12 * abs(wanted[0]))
        on_arrays = on_numpy.log_large_binomial(hits, misses, *logs).sum()
        self.assertAlmostEqual(on_arrays, wanted[0], delta=1e-9 * abs(wanted[0]))
        # Differences of numbers near 20 keep fifteen digits behind the first.
        for one, other in zip(found[1], wanted[1], strict=True):
            np.testing.assert_allclose(one, other, rtol=1e-13, atol=3e-14)

    def test_a_large_negative_binomial_against_60_digits(self):
        x, mean, shape = F(320_000), F(300_000), F(200_000)
        exact = mp.loggamma(x + shape) - mp.loggamma(shape) - mp.loggamma(x + 1)
        exact += x * mp.log(mean / (mean + shape)) + shape * mp.log(shape / (mean + shape))
        for m in (on_jax, on_numpy):
            found = float(m.log_negative_binomial(*map(float, (x, mean, shape))))
            self.assertAlmostEqual(found, float(exact), delta=1e-11 * abs(float(exact)))


class Counting:
    """The functions of NumPy, counting the steps of loops that run until they have converged."""

    steps = 0

    def __getattr__(self, name):
        return getattr(on_numpy, name)

    def until(self, go_on, step, state):
        while go_on(state):
            state = step(state)
            self.steps += 1
        return state


class Tails(unittest.TestCase):
    def test_loops_end_when_they_have_converged(self):
        generator = np.random.default_rng(1)
        a, b = 10 ** generator.uniform(-1, 2.5, (2, 5000))
        for shares, arguments in (
            (tails.log_gamma_shares, (a, a * 10 ** generator.uniform(-1, 1, 5000))),
            (tails.log_beta_shares, (a, b, x := generator.random(5000), 1 - x)),
        ):
            counting = Counting()
            below, above = shares(counting, *arguments)
            np.testing.assert_allclose(np.exp(below) + np.exp(above), 1, atol=1e-12)
            self.assertLess(counting.steps, 500)

    def test_both_tails_at_once_are_the_same_with_their_derivatives(self):
        for name, arguments, places in (
            ("gamma", {"shape": 2.5, "rate": 1.5}, [0.01, 1.0, 9.0]),
            ("inverse_gamma", {"shape": 2.5, "scale": 1.5}, [0.1, 1.0, 9.0]),
            ("beta", {"alpha": 2.5, "beta": 4.0}, [0.01, 0.3, 0.9]),
            ("student_t", {"location": 0.3, "scale": 2.0, "df": 3.5}, [-9.0, 0.3, 4.0]),
            ("normal", {"location": 0.3, "scale": 2.0}, [-9.0, 0.3, 4.0]),
            ("laplace", {"location": 0.3, "scale": 2.0}, [-9.0, 0.3, 4.0]),
        ):
            family = family_for(name, frozenset(arguments))
            x = np.asarray(places)
            plain = {key: np.asarray(value) for key, value in arguments.items()}
            for side, tail in enumerate(("log_cdf", "log_survival")):
                with self.subTest(name=name, tail=tail):
                    alone, traced = getattr(family, tail), (jnp.asarray(x), plain)
                    both = lambda m, x, p, f=family, s=side: f.log_tails(m, x, p)[s]  # noqa: E731
                    np.testing.assert_allclose(
                        both(on_numpy, x, plain), alone(on_numpy, x, plain), rtol=1e-12
                    )
                    found = jax.jacfwd(lambda *a, f=both: f(on_jax, *a), (0, 1))(*traced)
                    for key, value in {"x": x, **plain}.items():
                        step = 1e-5
                        ends = []
                        for sign in (1, -1):
                            moved = {"x": x, **plain} | {key: value + sign * step}
                            at = moved.pop("x")
                            ends.append(alone(on_numpy, at, moved))
                        slope = (ends[0] - ends[1]) / (2 * step)
                        got = np.diag(found[0]) if key == "x" else found[1][key]
                        np.testing.assert_allclose(got, slope, rtol=1e-5, atol=1e-8)


if __name__ == "__main__":
    unittest.main()
