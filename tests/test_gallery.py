"""Kinds of trouble made on purpose, each named rightly; and good fits that are left in peace."""

import unittest

import jax.numpy as jnp
import numpy as np

import millwright as mw
from millwright.diagnostics.finding import Sampling
from millwright.diagnostics.measures import measure
from millwright.diagnostics.verdict import judge
from millwright.modelling.repeated_rows import repeated_rows
from tests.fits import flat, known_scale, straight, yeasts

SETTINGS = {"seed": 1, "progress": False}


def chains(change):
    """Judge four good chains of one quantity, changed."""
    x = np.random.default_rng(3).standard_normal((4, 1000))
    change(x)
    return " ".join(str(judge(measure({"load": x}), Sampling(chains=4, draws=1000))).split())


class ChainsInTrouble(unittest.TestCase):
    def test_a_stuck_chain(self):
        def stuck(x):
            x[1] = x[1, 0]

        self.assertIn("Chain 2 hardly moves", chains(stuck))

    def test_a_drifting_chain(self):
        def drift(x):
            x[2] += np.linspace(-2, 2, 1000)

        text = chains(drift)
        self.assertIn("Chain 3 drifts", text)
        self.assertIn("longer warm-up", text)

    def test_a_shifted_chain(self):
        def shift(x):
            x[0] += 1.5

        self.assertIn("Chain 1 lies apart", chains(shift))

    def test_different_spreads(self):
        def widen(x):
            x[3] *= 4

        self.assertIn("Chain 4 spreads wider", chains(widen))

    def test_two_modes(self):
        def part(x):
            x[:2] += 20

        text = chains(part)
        self.assertIn("Chains stay in places of their own", text)
        self.assertIn("separate modes", text)
        self.assertNotIn("too few to tell", text)

    def test_chains_apart_in_a_few_draws_are_not_called_modes_outright(self):
        x = np.random.default_rng(3).standard_normal((4, 40))
        x[:2] += 20
        text = " ".join(str(judge(measure({"load": x}), Sampling(chains=4, draws=40))).split())
        self.assertIn("40 draws a chain are too few to tell why: run longer", text)

    def test_too_few_draws(self):
        x = np.random.default_rng(3).standard_normal((4, 40))
        text = str(judge(measure({"load": x}), Sampling(chains=4, draws=40)))
        self.assertIn("Too few effective draws", text)
        self.assertIn("draws=", text)

    def test_a_tail_without_moments(self):
        x = np.random.default_rng(3).standard_cauchy((4, 1000))
        text = " ".join(str(judge(measure({"ratio": x}), Sampling(chains=4, draws=1000))).split())
        self.assertIn("Heavy tails in `ratio`", text)
        self.assertIn("Report median and interval", text)

    def test_tails_with_moments_are_left_in_peace(self):
        generator = np.random.default_rng(4)
        for name, x in {
            "t4": generator.standard_t(4, (4, 1000)),
            "lognormal": np.exp(generator.standard_normal((4, 1000))),
            "exponential": generator.standard_exponential((4, 1000)),
        }.items():
            with self.subTest(name=name):
                self.assertEqual(
                    judge(measure({name: x}), Sampling(chains=4, draws=1000)).findings, ()
                )

    def test_more_effective_draws_than_draws_are_explained(self):
        noise = np.random.default_rng(5).standard_normal((4, 1001))
        x = noise[:, 1:] - 0.6 * noise[:, :-1]
        self.assertIn(
            "is no fault", str(judge(measure({"load": x}), Sampling(chains=4, draws=1000)))
        )


class ModelsInTrouble(unittest.TestCase):
    def test_a_funnel(self):
        target = mw.Target(
            lambda depth, width: (
                -0.5 * (depth / 3) ** 2
                - 0.5 * jnp.sum((width * jnp.exp(-depth / 2)) ** 2)
                - 0.5 * depth
            ),
            {"depth": "real", "width": "real"},
        )
        text = " ".join(str(target.fit(draws=500, warmup=500, **SETTINGS).verdict).split())
        self.assertRegex(text, "diverged|Slow moves|Heavy tails|Too few effective")
        self.assertNotIn("Converged", text)

    def test_a_constant_quantity(self):
        model = mw.Model(
            priors={"x": "normal(0, 1)"},
            likelihood={"y": "normal(x, 1)"},
            derived={"same": "0 * x + 3"},
        )
        fit = model.fit({"y": [1.0]}, draws=100, warmup=100, **SETTINGS)
        self.assertIn("`same`: constant", str(fit.verdict))

    def test_the_wrong_likelihood_family(self):
        counts = np.random.default_rng(2).negative_binomial(2, 0.2, 120)
        model = mw.Model(
            priors={"stops": "gamma(shape=2, rate=0.2)"},
            likelihood={"n": "poisson(rate=stops)"},
        )
        fit = model.fit({"n": counts}, draws=250, **SETTINGS)
        text = str(fit.predictive_check())
        self.assertIn("sd of `n`", text)
        self.assertIn("spreads MORE than the family allows: negative_binomial", text)

    def test_prior_and_data_in_conflict(self):
        model = mw.Model(priors={"level": "normal(0, 1)"}, likelihood={"y": "normal(level, 1)"})
        far = np.random.default_rng(2).normal(30, 1, 20)
        text = str(model.fit({"y": far}, draws=250, **SETTINGS).predictive_check())
        self.assertIn("CONFLICT about `level`", text)
        near = model.fit({"y": far - 30}, draws=250, **SETTINGS).predictive_check()
        self.assertEqual(near.conflicts, ())

    def test_doubled_rows(self):
        model = mw.Model(priors={"level": "normal(0, 1)"}, likelihood={"y": "normal(level, 1)"})
        y = np.random.default_rng(2).standard_normal(60)
        text = " ".join(
            str(model.fit({"y": np.r_[y, y[:9]]}, draws=250, **SETTINGS).verdict).split()
        )
        self.assertIn("9 of 69 rows of the data repeat another row", text)
        rounded = np.round(np.r_[y, y[:9]], 1)
        # Four chains of 250 draws have fewer than 400 effective ones with one seed in five.
        fit = model.fit({"y": rounded}, draws=500, **SETTINGS)
        self.assertEqual(fit.verdict.findings, (), "coarse values repeat by themselves")
        limited = np.minimum(y, 0.5)
        found = repeated_rows(model.bind({"y": limited}))
        self.assertEqual(found, (0, 0), "so do values at a limit")
        x, mill = np.arange(69.0), np.repeat(["a", "b", "c"], 23)
        rows = {
            "y": np.r_[y, y[:9]],
            "x": np.r_[x[:60], x[:9]],
            "mill": np.r_[mill[:60], mill[:9]],
        }
        priors = {"level": "normal(0, 1) per mill", "slope": "normal(0, 1)"}
        model = mw.Model(priors=priors, likelihood={"y": "normal(level[mill] + slope * x, 1)"})
        self.assertEqual(repeated_rows(model.bind(rows)), (9, 69))
        for name, column in (("x", x), ("mill", mill)):
            other = repeated_rows(model.bind({**rows, name: column}))
            self.assertEqual(other, (0, 0), f"rows that differ in {name}")


class GoodFits(unittest.TestCase):
    def assert_clean(self, fit):
        self.assertTrue(fit.verdict.good, str(fit.verdict))

    def test_shared_fits(self):
        for make in (straight, flat, yeasts, lambda: known_scale()[0]):
            self.assert_clean(make())

    def test_counts_shares_and_waiting_times(self):
        generator = np.random.default_rng(8)
        cases = {
            "poisson": (
                {"r": "gamma(shape=2, rate=1)"},
                "poisson(rate=r)",
                generator.poisson(3, 40),
            ),
            "bernoulli": (
                {"p": "beta(alpha=1, beta=1)"},
                "bernoulli(probability=p)",
                generator.integers(0, 2, 40),
            ),
            "exponential": (
                {"r": "gamma(shape=2, rate=1)"},
                "exponential(rate=r)",
                generator.exponential(0.5, 40),
            ),
            "student_t": (
                {"m": "normal(0, 3)", "s": "half_normal(2)"},
                "student_t(m, s, df=4)",
                generator.standard_t(4, 60),
            ),
            "lognormal": (
                {"m": "normal(0, 3)", "s": "half_normal(2)"},
                "lognormal(m, s)",
                generator.lognormal(0, 1, 50),
            ),
        }
        for name, (priors, likelihood, y) in cases.items():
            with self.subTest(name=name):
                model = mw.Model(priors=priors, likelihood={"y": likelihood})
                self.assert_clean(model.fit({"y": y}, **SETTINGS))

    def test_groups(self):
        generator = np.random.default_rng(9)
        stone = np.repeat(np.arange(12), 10)
        model = mw.Model(
            priors={
                "base": "normal(0, 2)",
                "spread": "half_normal(1)",
                "noise": "half_normal(2)",
                "effect": "normal(base, spread) per stone",
            },
            likelihood={"load": "normal(effect[stone], noise)"},
        )
        load = generator.normal(size=12)[stone] + generator.normal(size=120)
        self.assert_clean(model.fit({"stone": stone, "load": load}, **SETTINGS))


if __name__ == "__main__":
    unittest.main()
