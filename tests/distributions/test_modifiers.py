"""Distributions made from others: densities, draws, gradients, and what they refuse."""

import functools
import unittest

import jax
import numpy as np
from scipy import integrate, stats

import millwright as mw
from millwright.distributions import on_jax, on_numpy
from millwright.distributions.registry import family_for
from millwright.errors import DataError, ModelError
from millwright.language.definition import define
from millwright.modelling.arguments import distribution_arguments, family_of
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.program import Program
from millwright.modelling.specification import Part


def read(text):
    """Return the family and the numbers of its arguments."""
    definition = define("y", text)
    key, arguments = distribution_arguments(definition)
    part = Part(
        name="y", kind="outcome", family=key, arguments=arguments, per=(), definition=definition
    )
    evaluation = Evaluation(on_numpy, Program(parts=(), columns=(), sizes=(), outcome_axes=()), {})
    numbers = {name: float(v.values) for name, v in evaluation.parameters(part).items()}
    return family_of(key, arguments), numbers


N01, N32 = stats.norm(0, 1), stats.norm(3, 2)
P4 = stats.poisson(4)
NB = stats.nbinom(1.5, 1.5 / 5.5)

# Text, points, and the log density there by an independent formula.
CASES = [
    (
        "mixture(normal(0, 1), normal(3, 2), share=0.3)",
        np.array([-2.0, 0.0, 1.0, 5.0]),
        lambda x: np.log(0.3 * N01.pdf(x) + 0.7 * N32.pdf(x)),
    ),
    (
        "mixture(normal(0, 1, low=-1), mixture(normal(3, 2), cauchy(0, 1), share=0.5), share=0.2)",
        np.array([-0.5, 0.0, 4.0]),
        lambda x: np.log(
            0.2 * stats.truncnorm(-1, np.inf).pdf(x) + 0.4 * N32.pdf(x) + 0.4 * stats.cauchy.pdf(x)
        ),
    ),
    (
        "mixture(poisson(rate=4), negative_binomial(mean=4, shape=1.5), share=0.4)",
        np.arange(12.0),
        lambda x: np.log(0.4 * P4.pmf(x) + 0.6 * NB.pmf(x)),
    ),
    (
        "zero_inflated(poisson(rate=4), share=0.25)",
        np.arange(12.0),
        lambda x: np.log(0.25 * (x == 0) + 0.75 * P4.pmf(x)),
    ),
    (
        "hurdle(poisson(rate=4), share=0.25)",
        np.arange(12.0),
        lambda x: np.log(np.where(x == 0, 0.25, 0.75 * P4.pmf(x) / P4.sf(0))),
    ),
    (
        "censored(normal(3, 2), low=1, high=6)",
        np.array([1.0, 2.0, 4.0, 6.0]),
        lambda x: np.where(x <= 1, N32.logcdf(1), np.where(x >= 6, N32.logsf(6), N32.logpdf(x))),
    ),
    (
        "rounded(normal(3, 2), to=0.5)",
        np.array([-3.0, 0.5, 3.0, 9.5]),
        lambda x: np.log(N32.cdf(x + 0.25) - N32.cdf(x - 0.25)),
    ),
    (
        "selected(normal(3, 2), above=4, weight=0.3)",
        np.array([-3.0, 3.9, 4.0, 9.5]),
        lambda x: np.log(N32.pdf(x) * np.where(x >= 4, 1, 0.3) / (N32.sf(4) + 0.3 * N32.cdf(4))),
    ),
    (
        "selected(normal(3, 2), below=1, above=4, weight=0.2)",
        np.array([-3.0, 1.0, 3.9, 4.0, 9.5]),
        lambda x: np.log(
            N32.pdf(x)
            * np.where((x >= 4) | (x <= 1), 1, 0.2)
            / (N32.sf(4) + N32.cdf(1) + 0.2 * (N32.cdf(4) - N32.cdf(1)))
        ),
    ),
    # Limits that cross leave nothing that would be seen less often.
    (
        "selected(normal(3, 2), below=4, above=1, weight=0.2)",
        np.array([-3.0, 2.0, 9.5]),
        lambda x: N32.logpdf(x),
    ),
    (
        "selected(selected(normal(3, 2), above=4, weight=0.5), above=1, weight=0.2)",
        np.array([-3.0, 1.0, 3.9, 4.0, 9.5]),
        lambda x: np.log(
            N32.pdf(x)
            * np.select([x >= 4, x >= 1], [1, 0.5], 0.1)
            / (N32.sf(4) + 0.5 * (N32.cdf(4) - N32.cdf(1)) + 0.1 * N32.cdf(1))
        ),
    ),
]


class OverLabels(unittest.TestCase):
    """A mixture of one family over a label set is the mixture of its members."""

    def setUp(self):
        key = ("mixture", ("normal", frozenset({"location", "scale"})))
        self.family = family_for(key, frozenset({"weights"}))
        self.p = {
            "of.location": np.array([-1.0, 2.0, 2.5]),
            "of.scale": np.array([0.5, 1.0, 0.3]),
            "weights": np.array([1.0, 2.0, 1.0]),
        }
        self.members = stats.norm(self.p["of.location"], self.p["of.scale"])
        self.shares = np.array([0.25, 0.5, 0.25])

    def test_density_and_distribution_function(self):
        x = np.array([-2.0, 0.0, 2.2, 4.0])
        for m in (on_numpy, on_jax):
            with self.subTest(m=m.__name__):
                found = [
                    np.exp(getattr(self.family, name)(m, x, self.p))
                    for name in ("log_density", "log_cdf", "log_survival")
                ]
                for values, want in zip(found, ("pdf", "cdf", "sf"), strict=True):
                    each = getattr(self.members, want)(x[:, None])
                    np.testing.assert_allclose(values, each @ self.shares, rtol=1e-8)

    def test_quantile_draws_and_mean(self):
        q = np.array([0.01, 0.4, 0.99])
        np.testing.assert_allclose(self.family.cdf(self.family.quantile(q, self.p), self.p), q)
        draws = self.family.draw(np.random.default_rng(1), (5000,), self.p)
        level = stats.kstest(draws, lambda x: self.family.cdf(x, self.p)).pvalue
        self.assertGreater(level, 1e-4)
        self.assertAlmostEqual(float(self.family.mean(self.p)), self.shares @ [-1.0, 2.0, 2.5])


class Modified(unittest.TestCase):
    def test_log_density_agrees_with_an_independent_formula(self):
        for text, x, formula in CASES:
            family, p = read(text)
            for m in (on_numpy, on_jax):
                with self.subTest(text=text, m=m.__name__):
                    whole = functools.partial(family.log_density, m)
                    found = (jax.jit(whole) if m is on_jax else whole)(x, p)
                    np.testing.assert_allclose(found, formula(x), rtol=1e-8, atol=1e-12)

    def test_probabilities_and_densities_sum_to_one(self):
        for text, _, _ in CASES:
            family, p = read(text)
            with self.subTest(text=text), np.errstate(all="ignore"):
                self.assertAlmostEqual(self.total(text, family, p), 1.0, places=6)

    def total(self, text, family, p):
        if family.whole:
            return np.exp(family.log_density(on_numpy, np.arange(400.0), p)).sum()
        if text.startswith("rounded"):
            return np.exp(family.log_density(on_numpy, np.arange(-40, 41) / 2, p)).sum()

        def density(x):
            return float(np.exp(family.log_density(on_numpy, x, p)))

        if text.startswith("censored"):
            ends = density(1.0) + density(6.0)
            return ends + integrate.quad(density, 1 + 1e-12, 6 - 1e-12)[0]
        parts = [(-np.inf, -1), (-1, 0), (0, 1), (1, 4), (4, 5), (5, np.inf)]
        return sum(integrate.quad(density, a, b)[0] for a, b in parts)

    def test_draws_follow_the_distribution_function(self):
        for text, _, _ in CASES:
            family, p = read(text)
            draws = family.draw(np.random.default_rng(3), (20_000,), p)
            for at in np.quantile(draws, [0.1, 0.3, 0.5, 0.8, 0.95]):
                with self.subTest(text=text, at=at):
                    share, want = np.mean(draws <= at), float(family.cdf(at, p))
                    self.assertLessEqual(
                        abs(share - want), 5 * np.sqrt(want * (1 - want) / 20_000)
                    )
                    if want < 1:
                        survival = np.exp(family.log_survival(on_numpy, np.asarray(at), p))
                        self.assertAlmostEqual(float(survival), 1 - want, places=9)

    def test_quantiles_invert_the_distribution_function(self):
        for text, _, _ in CASES:
            family, p = read(text)
            q = np.array([0.05, 0.3, 0.5, 0.9])
            x = np.asarray(family.quantile(q, p), dtype=float)
            step = 1.0 if family.whole else 1e-6
            with self.subTest(text=text):
                self.assertTrue((family.cdf(x + 1e-9, p) >= q - 1e-9).all())
                if text.startswith("mixture"):
                    self.assertTrue((family.cdf(x - step, p) <= q + 1e-9).all())

    def test_mean_is_that_of_the_draws(self):
        for text, _, _ in CASES:
            family, p = read(text)
            mean = float(family.mean(p))
            if not np.isfinite(mean):
                continue
            with self.subTest(text=text):
                draws = family.draw(np.random.default_rng(4), (40_000,), p)
                error = draws.std() / 200
                self.assertLess(abs(draws.mean() - mean), 5 * error)

    def test_gradients_stay_finite_in_the_tails_and_at_zero(self):
        for text, x, _ in CASES:
            family, p = read(text)
            points = x if family.whole else np.array([*x, -60.0, 60.0])

            def value(q, point, family=family):
                return family.log_density(on_jax, point, q)

            gradients = jax.jit(jax.vmap(jax.grad(value), in_axes=(None, 0)))(p, points)
            for name, values in gradients.items():
                with self.subTest(text=text, name=name):
                    self.assertTrue(np.isfinite(values).all(), values)


class Recorded(unittest.TestCase):
    def test_mixtures_of_mixtures_with_bounds_are_sampled(self):
        for text in (
            "mixture(normal(centre, 1), mixture(uniform(low=0, high=3), beta(alpha=2, beta=2), "
            "share=0.4), share=0.3)",
            "mixture(rounded(normal(centre, 1), to=1), "
            "rounded(gamma(shape=2, rate=exp(centre)), to=1), share=0.3)",
        ):
            model = mw.Model(priors={"centre": "normal(0, 1)"}, likelihood={"y": text})
            posterior = model.fit({"y": [1.0, 2.0]}, seed=2, progress=False)
            grid = np.linspace(-6, 6, 301)
            log_p = (
                np.array(
                    [
                        sum(family.log_density(on_numpy, y, numbers) for y in (1.0, 2.0))
                        for family, numbers in (
                            read(text.replace("centre", repr(float(c)))) for c in grid
                        )
                    ]
                )
                - grid**2 / 2
            )
            p = np.exp(log_p - log_p.max())
            p /= p.sum()
            row = posterior.table().loc["centre"]
            error = 5 * row["sd"] / np.sqrt(row["effective draws"])
            self.assertLess(abs(row["mean"] - np.sum(p * grid)), error, text)

    def test_what_is_recorded_twice_has_all_of_its_mass(self):
        for text, values in (
            ("censored(rounded(normal(1, 1), to=0.25), low=0.5, high=1.5)", np.arange(2, 7) / 4),
            ("censored(rounded(normal(1, 1), to=0.5), low=0.6, high=1.6)", [0.6, 1.0, 1.5, 1.6]),
            ("rounded(censored(normal(1, 1), low=0.4, high=1.6), to=0.25)", np.arange(2, 7) / 4),
            (
                "censored(mixture(rounded(normal(1, 1), to=1), rounded(normal(3, 1), to=1), "
                "share=0.3), low=0, high=2)",
                [0.0, 1.0, 2.0],
            ),
        ):
            family, numbers = read(text)
            chances = np.exp(family.log_density(on_numpy, np.asarray(values), numbers))
            self.assertAlmostEqual(chances.sum(), 1.0, places=12, msg=text)
            self.assertAlmostEqual(np.sum(values * chances), float(family.mean(numbers)), places=3)


class Refusals(unittest.TestCase):
    def test_messages_say_how_it_is_written(self):
        cases = {
            "mixture(normal(0, 1), share=0.5)": "made from 2 distributions",
            "mixture(normal(0, 1), poisson(rate=1), share=0.5)": "do not mix",
            "mixture(normal(0, 1), normal(0, 1))": "share=...",
            "zero_inflated(normal(0, 1), share=0.5)": "of counts",
            "rounded(poisson(rate=1), to=1)": "continuous",
            "mixture(censored(normal(0, 1), low=0), normal(0, 1), share=0.5)": "different ways",
            "selected(rounded(normal(0, 1), to=1), above=1, weight=0.2)": "rounded(selected(",
            "selected(mixture(rounded(normal(0, 1), to=1), rounded(cauchy(0, 1), to=1), "
            "share=0.4), above=1, weight=0.2)": "must not be recorded yet",
            "rounded(mixture(normal([a, 2], 1), weights=[1, 2]), to=1)": "mixture(rounded(",
            "beta(alpha=invlogit(a), beta=2)": "Did you mean `expit`",
            "beta(alpha=logistic(a), beta=2)": "inverse of logit is `expit`",
            "normal(eerf(a), 1)": "Did you mean `erf`?",
            "mixture(nromal(a, 1), normal(0, 1), share=0.5)": "Did you mean `normal`",
            "mixture(rounded(normal(0, 1), to=1), rounded(cauchy(0, 1), to=2), share=0.5)": "ways",
            "censored(normal(0, 1))": "low=..., high=...",
            "censored(normal(0, 1), hihg=3)": "Did you mean `high`",
            "censored(normal(0, 1), low=3, high=2)": "",
            "selected(normal(0, 1), weight=0.5)": "above",
            "selected(poisson(rate=2), above=1, weight=0.5)": "continuous",
            "mixture(2, normal(0, 1), share=0.5)": "a distribution is needed",
        }
        for text, words in cases.items():
            with self.subTest(text=text), self.assertRaises(ModelError) as caught:
                mw.Model(priors={"a": "normal(0, 1)"}, likelihood={"y": text}).bind({"y": [2.0]})
            self.assertIn(words, str(caught.exception))

    def test_values_between_the_multiples_of_a_step_are_refused(self):
        data = {"y": [1.5, 1.29, 0.5, -0.77], "step": [0.5, 0.01, 0.1, 0.5]}
        for step, seen in (("0.5", "1.29, -0.77 in rows 2, 4"), ("step", "-0.77 in row 4")):
            model = mw.Model(
                priors={"a": "normal(0, 1)"}, likelihood={"y": f"rounded(normal(a, 1), to={step})"}
            )
            with self.assertRaisesRegex(DataError, f"multiples of `to`, but the data have {seen}"):
                model.bind(data)
            # Conversions leave a part of a step, and gaps are none.
            near = model.bind(data | {"y": [1.502, np.nan, 0.5, -0.5]}, missing="drop")
            self.assertEqual(near.program.size_of["row"], 3)

    def test_values_beyond_a_limit_are_refused(self):
        model = mw.Model(
            priors={"a": "normal(0, 1)"}, likelihood={"y": "censored(normal(a, 1), high=limit)"}
        )
        model.bind({"y": [1.0, 2.0], "limit": [2.0, 2.0]})
        with self.assertRaisesRegex(DataError, "row 2"):
            model.bind({"y": [1.0, 2.5], "limit": [2.0, 2.0]})


class Fits(unittest.TestCase):
    def test_censored_readings_recover_the_truth(self):
        model = mw.Model(
            priors={"level": "normal(10, 5)", "noise": "half_normal(3)"},
            likelihood={"moisture": "censored(normal(level, noise), high=14)"},
        )
        truth = {"level": 13.0, "noise": 2.0}
        data = model.simulate(rows=300, given=truth, draws=1, seed=2).data(0)
        self.assertGreater((data["moisture"] == 14).mean(), 0.2)
        table = model.fit(data, seed=1, progress=False).table()
        for name, value in truth.items():
            self.assertLess(abs(table.loc[name, "mean"] - value), 3.5 * table.loc[name, "sd"])

    def test_function_and_text_agree(self):
        text = mw.Model(
            priors={"a": "normal(0, 1)"},
            likelihood={"y": "mixture(normal(a, 1), normal(3, 2), share=0.3)"},
        )
        function = mw.Model(
            priors={"a": "normal(0, 1)"},
            likelihood={"y": lambda a: mw.mixture(mw.normal(a, 1), mw.normal(3, 2), share=0.3)},
        )
        self.assertEqual(text, function)


if __name__ == "__main__":
    unittest.main()
