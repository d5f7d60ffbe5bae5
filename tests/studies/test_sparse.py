"""Selection by shrunken slopes: against importance sampling, its tables, what is refused."""

import functools
import tempfile
import unittest
from pathlib import Path

import numpy as np
import pandas as pd
from scipy.special import expit, gammaln

import millwright as mw
from millwright.errors import ArgumentError, DataError
from millwright.studies.families import FAMILIES
from millwright.studies.shrinkage import noise_on_predictor


@functools.cache
def mills(rows=40):
    make = np.random.default_rng(3)
    x = make.normal(size=(rows, 2))
    eta = 0.3 + 1.1 * x[:, 0]
    good = np.where(make.random(rows) < expit(eta), "yes", "no")
    cats = make.poisson(np.exp(0.5 + 0.4 * x[:, 0]))
    grain = make.choice(["rye", "oats", "wheat"], rows)
    return pd.DataFrame(
        {"wheel speed": x[:, 0], "rain": x[:, 1], "grain": grain, "good": good, "cats": cats}
    )


def study(outcome="good", family="bernoulli", candidates=("wheel speed", "rain"), **settings):
    return mw.studies.variable_selection(
        mills(), outcome, list(candidates), family=family, **settings
    )


@functools.cache
def found(family="bernoulli"):
    outcome = "good" if family == "bernoulli" else "cats"
    return study(outcome, family).fit(seed=2, progress=False)


@functools.cache
def with_grain():
    made = study(candidates=("wheel speed", "rain", "grain"), always=["rain"])
    return made.fit(seed=1, progress=False, draws=300, warmup=300)


def weighted(family, region, draws=400_000):
    """Inclusion, first slope, and errors, by weighing draws of the prior by the likelihood."""
    make = np.random.default_rng(9)
    data = mills()
    x = data[["wheel speed", "rain"]].to_numpy()
    x = (x - x.mean(axis=0)) / x.std(axis=0, ddof=1)
    y = (data.good == "yes").to_numpy(float) if family == "bernoulli" else data.cats.to_numpy()
    rows = len(y)
    noise = 1 / np.sqrt(y.mean() * (1 - y.mean())) if family == "bernoulli" else y.mean() ** -0.5
    median = float(f"{1.0 / (2 - 1.0) * noise / np.sqrt(rows):.3g}")
    middle = 0.0 if family == "bernoulli" else round(np.log(y.mean()), 2)
    overall = median * np.abs(make.standard_cauchy(draws))[:, None]
    local = np.abs(make.standard_cauchy((draws, 2)))
    slope = overall * local / np.sqrt(1 + (overall * local / 2) ** 2)
    slope *= make.normal(size=(draws, 2))
    level = middle + 3 * make.normal(size=draws)
    log = np.empty(draws)
    for at in np.array_split(np.arange(draws), 10):
        eta = level[at, None] + slope[at] @ x.T
        if family == "bernoulli":
            log[at] = (y * eta - np.logaddexp(0, eta)).sum(axis=1)
        else:
            log[at] = (y * eta - np.exp(eta) - gammaln(y + 1)).sum(axis=1)
    weights = np.exp(log - log.max())
    weights /= weights.sum()
    inside = np.abs(slope) > region
    means = weights @ np.column_stack([inside, slope[:, 0]])
    spread = np.sqrt(weights**2 @ (np.column_stack([inside, slope[:, 0]]) - means) ** 2)
    return means, spread


class Right(unittest.TestCase):
    def test_inclusion_and_slopes_agree_with_weighed_draws_of_the_prior(self):
        for family in ("bernoulli", "poisson"):
            with self.subTest(family=family):
                answer = found(family)
                region = 0.18 if family == "bernoulli" else 0.1
                self.assertAlmostEqual(answer.study.region, region)
                means, spread = weighted(family, region)
                table = answer.inclusion(order="data")
                for at in (0, 1):
                    error = np.hypot(table["its error"].iloc[at], spread[at])
                    got = table["posterior probability"].iloc[at]
                    self.assertLess(abs(got - means[at]), 4 * error, (family, at))
                row = answer.coefficients("standardised").loc["wheel speed"]
                error = np.hypot(row["sd"] / np.sqrt(row["effective draws"]), spread[2])
                self.assertLess(abs(row["mean"] - means[2]), 4 * error)

    def test_noise_on_the_predictor(self):
        make = np.random.default_rng(0)
        yes = np.repeat([0.0, 1.0], [30, 10])
        counts = make.poisson(4.0, 200).astype(float)
        for family, link, values, expected in (
            ("bernoulli", "logit", yes, 1 / np.sqrt(0.25 * 0.75)),
            ("poisson", "log", counts, counts.mean() ** -0.5),
            ("negative_binomial", "log", counts, counts.std(ddof=1) / counts.mean()),
            ("normal", "identity", counts, 2.5),
            ("ordered", "logit", counts, np.pi / np.sqrt(3)),
        ):
            with self.subTest(family=family):
                got = noise_on_predictor(FAMILIES[family], link, values, 2.5)
                self.assertAlmostEqual(got, expected, 10)
        # Of a probit at a half: the sd 0.5 over the density of a normal at 0.
        got = noise_on_predictor(FAMILIES["bernoulli"], "probit", np.repeat([0.0, 1.0], 5), 1.0)
        self.assertAlmostEqual(got, 0.5 * np.sqrt(2 * np.pi), 10)


class Tables(unittest.TestCase):
    def test_the_answer_says_what_matters_and_by_which_region(self):
        text = str(found())
        self.assertIn("Matter with a probability of a half or more: `wheel speed`", text)
        self.assertIn("a slope beyond 0.18 for one sd", text)
        self.assertIn("an approximation", str(found().study))
        self.assertIn("beta(alpha=0.5, beta=0.5) per candidate", str(found().study))

    def test_sizes_subsets_and_pairs_belong_together(self):
        answer = with_grain()
        sizes = answer.sizes()
        self.assertTrue(np.allclose(sizes.sum(), 1))
        self.assertEqual(sizes["posterior probability"].iloc[0], 0.0)
        best = answer.best_models(100)
        self.assertAlmostEqual(best["share of draws"].sum(), 1.0)
        self.assertTrue(best["candidates"].str.contains("rain").all())
        table = answer.inclusion()
        self.assertEqual(table.loc["rain", "prior probability"], 1.0)
        self.assertEqual(table.loc["rain", "in words"], "always in")
        self.assertGreater(table.loc["grain", "prior probability"], 0.2)
        mean = (sizes.index.to_numpy() * sizes["posterior probability"]).sum()
        self.assertAlmostEqual(table["posterior probability"].sum(), mean)
        pair = answer.pairs(1).iloc[0]
        self.assertAlmostEqual(pair["both"] + pair["one alone"] + pair["none"], 1.0)
        self.assertIsNone(answer.direction("grain"))

    def test_a_wider_region_lets_fewer_in(self):
        narrow, wide = (found().inclusion("data", region) for region in (0.02, 0.5))
        for column in ("prior probability", "posterior probability"):
            self.assertTrue((wide[column] < narrow[column]).all())

    def test_figures(self):
        for name in ("inclusion", "coefficients", "models", "sizes", "effects", "residuals"):
            with self.subTest(figure=name):
                drawn = mw.plots.study(with_grain(), name)
                self.assertGreaterEqual(len(drawn.axes), 1)
        bars = mw.plots.study(with_grain(), "inclusion").axes[0].patches
        shown = with_grain().inclusion()["posterior probability"].to_numpy()
        self.assertTrue(np.allclose([bar.get_width() for bar in bars], shown))

    def test_it_is_stored_and_loaded(self):
        with tempfile.TemporaryDirectory() as folder:
            with_grain().save(Path(folder) / "mills")
            again = mw.studies.load(Path(folder) / "mills")
        self.assertEqual(again.answer, with_grain().answer)
        self.assertEqual(again.record["study"], "variable_selection")

    def test_normal_outcomes_and_own_priors(self):
        made = study(
            "rain",
            "normal",
            ["wheel speed", "cats"],
            prior="horseshoe",
            priors={"global_scale": "half_cauchy(0.3)"},
            region=0.25,
        )
        self.assertIn("half_cauchy(scale=0.3)", str(made))
        self.assertEqual(made.region, 0.25)


class Refused(unittest.TestCase):
    def test_settings_that_do_not_belong_together(self):
        for settings, words in (
            ({"g": "n"}, "is of linear regressions weighed one by one"),
            ({"steps": 5000}, "is of linear regressions"),
            ({"expected_size": 2}, "below the number of terms"),
            ({"region": 0}, "above 0"),
            ({"always": ["wheel speed", "rain"]}, "No slope is left"),
            ({"always": ["wheel"]}, "which is no term"),
            ({"family": "bernuli"}, "bernoulli"),
            ({"candidates": ["wheel sped"]}, "wheel speed"),
            ({"candidates": ["rain", "good"]}, "is the outcome"),
            ({"family": "normal", "region": 0.1}, "goes with"),
            ({"family": "categorical"}, "not for categorical"),
        ):
            with self.subTest(settings=settings), self.assertRaises(ArgumentError) as refused:
                study(**settings)
            self.assertIn(words, str(refused.exception))
        with self.assertRaises(DataError):
            study("cats", "bernoulli")
        with self.assertRaises(ArgumentError):
            mw.studies.regression("cats ~ rain", mills(), family="poisson", always=["rain"])
        with self.assertRaises(ArgumentError):
            found().inclusion(region=-1)
        with self.assertRaises(ArgumentError):
            found().best_models(0)


if __name__ == "__main__":
    unittest.main()
