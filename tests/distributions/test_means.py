"""Means of distributions that are cut, recorded, selected or mixed, against integrals and sums."""

import tracemalloc
import unittest

import numpy as np
from scipy import integrate, stats

import millwright as mw
from tests.distributions.test_modifiers import read

# Text without its closing bracket, and the same distribution of SciPy.
FAMILIES = [
    ("normal(1, 2", stats.norm(1, 2)),
    ("student_t(0.5, 2, df=3", stats.t(3, 0.5, 2)),
    ("student_t(0, 1, df=1", stats.t(1)),
    ("cauchy(0, 1", stats.cauchy()),
    ("logistic(1, 0.7", stats.logistic(1, 0.7)),
    ("laplace(1, 0.7", stats.laplace(1, 0.7)),
    ("gumbel(0, 2", stats.gumbel_r(0, 2)),
    ("skew_normal(0, 2, shape=-3", stats.skewnorm(-3, 0, 2)),
    ("skew_normal(0, 2, shape=4", stats.skewnorm(4, 0, 2)),
    ("half_normal(2", stats.halfnorm(0, 2)),
    ("half_student_t(2, df=3", stats.t(3, 0, 2)),
    ("half_cauchy(2", stats.halfcauchy(0, 2)),
    ("gamma(shape=2.5, rate=2", stats.gamma(2.5, scale=0.5)),
    ("exponential(rate=0.7", stats.expon(scale=1 / 0.7)),
    ("inverse_gamma(shape=3, scale=4", stats.invgamma(3, scale=4)),
    ("inverse_gamma(shape=0.8, scale=2", stats.invgamma(0.8, scale=2)),
    ("lognormal(0.3, 0.8", stats.lognorm(0.8, scale=np.exp(0.3))),
    ("weibull(shape=1.6, scale=2", stats.weibull_min(1.6, scale=2)),
    ("pareto(shape=2.5, scale=0.5", stats.pareto(2.5, scale=0.5)),
    ("beta(alpha=2, beta=3", stats.beta(2, 3)),
]


def between(law, low, high):
    """Return probability and mean of what lies between two bounds."""
    mass = integrate.quad(law.pdf, low, high, epsabs=0, limit=400)[0]
    total = integrate.quad(lambda x: x * law.pdf(x), low, high, epsabs=0, limit=400)[0]
    return mass, total / mass


class Cut(unittest.TestCase):
    def test_between_two_bounds_and_above_one(self):
        for text, law in FAMILIES:
            at = [float(law.ppf(q)) for q in (0.6, 0.9, 0.999)]
            if text.startswith("half_student"):
                at = [float(np.abs(law.ppf(q))) for q in (0.7, 0.9, 0.999)]
            for low, high in ((at[0], at[1]), (at[1], at[2])):
                family, numbers = read(f"{text}, low={low!r}, high={high!r})")
                wanted = between(law, low, high)[1]
                np.testing.assert_allclose(family.mean(numbers), wanted, rtol=1e-7, err_msg=text)
            if not np.isfinite(law.mean()):
                continue
            family, numbers = read(f"{text}, low={float(at[1])!r})")
            wanted = between(law, at[1], np.inf)[1]
            np.testing.assert_allclose(family.mean(numbers), wanted, rtol=1e-6, err_msg=text)

    def test_far_out_and_around_the_middle(self):
        beyond_9 = np.exp(stats.norm.logpdf(9) - stats.norm.logsf(9))
        for text, wanted in (
            ("normal(0, 1, low=9)", beyond_9),
            ("normal(0, 1, high=-9)", -beyond_9),
            ("normal(0, 1, low=-1, high=1)", 0.0),
            ("normal(2, 1, low=-1e9, high=1e9)", 2.0),
            ("student_t(0, 1, df=5, low=-2, high=2)", 0.0),
        ):
            family, numbers = read(text)
            self.assertAlmostEqual(float(family.mean(numbers)), wanted, delta=1e-7, msg=text)


class Recorded(unittest.TestCase):
    def test_beyond_limits(self):
        for text, law in FAMILIES:
            if text.startswith("half_student"):
                continue
            low, high = (float(law.ppf(q)) for q in (0.3, 0.8))
            mass, middle = between(law, low, high)
            wanted = low * law.cdf(low) + high * law.sf(high) + mass * middle
            family, numbers = read(f"censored({text}), low={low!r}, high={high!r})")
            np.testing.assert_allclose(family.mean(numbers), wanted, rtol=1e-6, err_msg=text)

    def test_to_a_grid(self):
        for text, law in (
            ("exponential(rate=2)", stats.expon(scale=0.5)),
            ("normal(0.3, 0.4)", stats.norm(0.3, 0.4)),
            ("normal(0.3, 1)", stats.norm(0.3, 1)),
            ("half_normal(0.6)", stats.halfnorm(0, 0.6)),
        ):
            grid = np.arange(-20, 21)
            wanted = np.sum(grid * (law.cdf(grid + 0.5) - law.cdf(grid - 0.5)))
            family, numbers = read(f"rounded({text}, to=1)")
            np.testing.assert_allclose(family.mean(numbers), wanted, rtol=1e-8, err_msg=text)
        family, numbers = read("rounded(normal(3, 2), to=0.001)")
        self.assertAlmostEqual(float(family.mean(numbers)), 3.0, places=6)


class Composed(unittest.TestCase):
    def test_mixtures_that_are_recorded_or_selected(self):
        one, two = stats.norm(0, 1), stats.gamma(2, scale=1)

        class Both:
            pdf = staticmethod(lambda x: 0.3 * one.pdf(x) + 0.7 * two.pdf(x))
            cdf = staticmethod(lambda x: 0.3 * one.cdf(x) + 0.7 * two.cdf(x))

        mixture = "mixture(normal(0, 1), gamma(shape=2, rate=1), share=0.3)"
        mass, middle = between(Both, -0.5, 2.0)
        family, numbers = read(f"censored({mixture}, low=-0.5, high=2)")
        wanted = -0.5 * Both.cdf(-0.5) + 2 * (1 - Both.cdf(2.0)) + mass * middle
        np.testing.assert_allclose(family.mean(numbers), wanted, rtol=1e-6)
        pieces = [between(Both, *ends) for ends in ((-15, -0.5), (-0.5, 2.0), (2.0, 60))]
        weights = (1.0, 0.25, 1.0)
        family, numbers = read(f"selected({mixture}, above=2, below=-0.5, weight=0.25)")
        whole = [w * mass for w, (mass, _) in zip(weights, pieces, strict=True)]
        wanted = sum(m * mean for m, (_, mean) in zip(whole, pieces, strict=True)) / sum(whole)
        np.testing.assert_allclose(family.mean(numbers), wanted, rtol=1e-6)

    def test_a_limit_beyond_the_end_of_a_component(self):
        law = stats.pareto(3, scale=0.5)
        mass, middle = between(law, 1.14, np.inf)
        beyond = 1.14 * law.cdf(1.14) + mass * middle
        family, numbers = read(
            "censored(mixture(beta(alpha=2, beta=2), pareto(shape=3, scale=0.5), share=0.4), "
            "low=1.14)"
        )
        np.testing.assert_allclose(family.mean(numbers), 0.4 * 1.14 + 0.6 * beyond, rtol=1e-7)
        # Finding the logarithm of nothing term by term would take minutes.
        many = {name: np.full(100_000, value) for name, value in numbers.items()}
        self.assertEqual(np.ptp(family.mean(many)), 0.0)

    def test_predictions_of_many_rows_need_little_memory(self):
        generator = np.random.default_rng(3)
        hours = generator.uniform(0, 4, 120)
        torn = np.clip(1 + 0.5 * hours + generator.normal(0, 1, 120), 0, 3).round(2)
        data = {"hours": hours, "torn": torn}
        few = {name: column[:25] for name, column in data.items()}
        for outcome in (
            "normal(a + b * hours, s, low=-9)",
            "rounded(censored(normal(a + b * hours, s), low=0, high=3), to=0.01)",
        ):
            priors = {"a": "normal(1, 0.5)", "b": "normal(0, 1)", "s": "half_normal(1)"}
            model = mw.Model(priors=priors, likelihood={"torn": outcome})
            posterior = model.fit(few, seed=5, progress=False)
            tracemalloc.start()
            found = posterior.predict(data)
            peak = tracemalloc.get_traced_memory()[1]
            tracemalloc.stop()
            self.assertLess(peak, 4e8, outcome)
            drawn = found.draws["torn"]
            error = 5 * drawn.std() / np.sqrt(400)
            self.assertLess(np.abs(found.expected["torn"] - drawn.mean(axis=0)).max(), error)


if __name__ == "__main__":
    unittest.main()
