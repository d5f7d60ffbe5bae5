"""Studies of proportions against beta integrals and sampled models."""

import functools
import unittest

import numpy as np
from scipy import integrate, stats

import millwright as mw
from millwright.errors import ArgumentError, DataError
from millwright.studies.beta_integrals import Beta, chance_larger

YEASTS = mw.demo.load("yeasts").frame
ANSWERS = {"first": ["yes"] * 12 + ["no"] * 8, "second": (["yes"] * 5 + ["no"] * 7) + ["no"] * 8}


@functools.cache
def yeasts():
    study = mw.studies.proportions(
        YEASTS, "sank", "yeast", trials="loaves", rope=(-0.02, 0.02), prior={"wild": BETA}
    )
    return study.fit(seed=1)


BETA = "beta(alpha=2, beta=8)"


class Shares(unittest.TestCase):
    def test_draws_are_those_of_the_beta_posterior(self):
        share = yeasts().posterior.draws.get("share").reshape(-1, 2)
        for at, (label, prior) in enumerate((("brewer", (1, 1)), ("wild", (2, 8)))):
            rows = YEASTS[YEASTS["yeast"] == label]
            won, lost = rows["sank"].sum(), (rows["loaves"] - rows["sank"]).sum()
            exact = stats.beta(prior[0] + won, prior[1] + lost)
            self.assertGreater(stats.kstest(share[:, at], exact.cdf).pvalue, 1e-3)

    def test_probability_against_quadrature(self):
        for one, other in (((5, 9), (2, 7)), ((0.4, 0.3), (0.5, 0.5)), ((900, 4100), (850, 4150))):
            exact = integrate.quad(
                lambda x, one=one, other=other: (
                    stats.beta.pdf(x, *one) * stats.beta.cdf(x, *other)
                ),
                *stats.beta.ppf([1e-13, 1 - 1e-13], *one),
                limit=300,
            )[0]
            self.assertAlmostEqual(chance_larger(Beta(*one), Beta(*other)), exact, places=6)
        exact = yeasts().probability_larger("wild", "brewer")
        draws = yeasts().posterior.draws.get("difference")
        self.assertLess(abs((draws > 0).mean() - exact), 4.5 * 0.5 / np.sqrt(draws.size))

    def test_evidences_against_those_of_sampled_models(self):
        found = yeasts()
        own = found.posterior.evidence().log_value
        same = found.study.models["all the same"].fit(
            found.study.data, seed=1, draws=500, progress=False
        )
        self.assertAlmostEqual(
            found.same_factor().log_value, own - same.evidence().log_value, places=3
        )
        one = mw.studies.proportions({"k": [2, 9, 4], "n": [10, 12, 9]}, "k", trials="n").fit()
        over = one.study.models["beta-binomial"].fit(one.study.data, seed=1, progress=False)
        difference = over.evidence().log_value - one.posterior.evidence().log_value
        self.assertAlmostEqual(one.dispersion_factor.log_value, difference, places=4)

    def test_rows_that_vary_more_are_said_and_allowed_for(self):
        data = {"n": [30] * 6, "k": [1, 15, 28, 3, 20, 29], "g": list("ababab")}
        narrow = mw.studies.proportions(data, "k", "g", trials="n").fit(seed=1)
        self.assertFalse(narrow.verdict.good)
        self.assertIn("too narrow", str(narrow.verdict))
        study = mw.studies.proportions(data, "k", "g", trials="n", family="beta_binomial")
        wide = study.fit(seed=1, progress=False)
        self.assertTrue(wide.verdict.good)
        sds = [one.posterior.draws.get("difference").std() for one in (narrow, wide)]
        self.assertGreater(sds[1], 2 * sds[0])

    def test_one_share_against_a_value(self):
        found = mw.studies.proportions(
            {"sank": ["yes"] * 12 + ["no"] * 8}, "sank", against=0.5
        ).fit(seed=1)
        exact = -np.log(21.0) - stats.binom.logpmf(12, 20, 0.5)
        self.assertAlmostEqual(found.factors[0].log_value, exact, places=9)
        self.assertIn(f"{stats.beta.sf(0.5, 13, 9):.3f}", " ".join(found.answer))

    def test_table_and_answer_give_one_probability(self):
        found = yeasts()
        above = found.table().loc["difference", "probability above 0"]
        self.assertEqual(above, found.probability_larger("wild", "brewer"))
        self.assertIn(f"{above:.3f}", found.answer[0])
        data = {"k": [3, 4, 5], "n": [9, 9, 9], "g": ["a - b", "a", "c"]}
        three = mw.studies.proportions(data, "k", "g", trials="n").fit(seed=1)
        self.assertEqual(len(three.differences()), 3)
        labels = [t.get_text() for t in mw.plots.study(three).axes[1].get_yticklabels()]
        self.assertEqual(labels, list(three.differences()))

    def test_readings_that_differ_are_explained(self):
        found = mw.studies.proportions(YEASTS, "sank", "yeast", trials="loaves").fit(seed=1)
        told = "\n".join(found.answer)
        for words in ("wild > share of brewer is shown", "is not shown at 95 %", "They differ"):
            self.assertIn(words, told)
        self.assertIn("has no end", told)

    def test_pairs_of_answers(self):
        found = mw.studies.proportions(ANSWERS, first="first", second="second").fit(seed=1)
        # Seven pairs went from yes to no, none the other way: binomial with a half.
        exact = np.log(1 / 8) + 7 * np.log(2)
        self.assertAlmostEqual(found.factors[0].log_value, exact, places=9)
        cells = found.posterior.draws.get("cells").reshape(-1, 4).mean(axis=0)
        np.testing.assert_allclose(cells, np.array([9, 1, 8, 6]) / 24, atol=0.01)

    def test_exact_draws_are_fitted_again_like_sampled_ones(self):
        data = {"k": [2, 5, 3, 4], "n": [9, 11, 8, 10]}
        posterior = mw.studies.proportions(data, "k", trials="n").fit(seed=1, draws=1000).posterior
        won, tried = np.array(data["k"]), np.array(data["n"])
        a, b = 1 + won.sum() - won, 1 + (tried - won).sum() - (tried - won)
        exact = stats.betabinom.logpmf(won, tried, a, b).sum()
        found = posterior.cross_validation(folds=4, progress=False)
        self.assertAlmostEqual(found.elpd, exact, delta=0.05)
        others = posterior.under_priors({"narrow": {"share": BETA}})
        self.assertIn("narrow", str(others))
        first_look = mw.Model.read(mw.demo.sheet_path("yeasts.toml")).normal_approximation(YEASTS)
        with self.assertRaisesRegex(mw.errors.ModelError, "origin of these is: approximation"):
            first_look.under_priors({"narrow": {"share": f"{BETA} per yeast"}})

    def test_data_that_must_be_refused(self):
        def study(data, **settings):
            return mw.studies.proportions(data, **settings)

        counts = {"k": [3, 2], "n": [5, 4], "g": ["a", "b"]}
        for words, error, data, settings in (
            ("only 2", DataError, {**counts, "n": [2, 4]}, {"outcome": "k", "trials": "n"}),
            (
                "whole numbers",
                DataError,
                {**counts, "k": [1.5, 2]},
                {"outcome": "k", "trials": "n"},
            ),
            (
                "is 0 in every row",
                DataError,
                {"k": [0], "n": [0]},
                {"outcome": "k", "trials": "n"},
            ),
            ("3 kinds", DataError, {"y": ["a", "b", "c"]}, {"outcome": "y"}),
            ("counts as a success", ArgumentError, {"y": ["sank", "swam"]}, {"outcome": "y"}),
            ("beta distribution", ArgumentError, counts, _with(prior="normal(0, 1)")),
            ("names the group `c`", ArgumentError, counts, _with(prior={"c": BETA})),
            ("needs rows of several", ArgumentError, {"y": [0, 1]}, {"outcome": "y", **DISPERSED}),
            ("a share, above 0", ArgumentError, {"y": [0, 1]}, {"outcome": "y", "against": 2.0}),
            (
                "two answers of pairs",
                ArgumentError,
                ANSWERS,
                {"first": "first", "outcome": "second"},
            ),
        ):
            with self.subTest(words), self.assertRaisesRegex(error, words):
                study(data, **settings)


DISPERSED = {"family": "beta_binomial"}


def _with(**settings):
    return {"outcome": "k", "trials": "n", "group": "g", **settings}


if __name__ == "__main__":
    unittest.main()
