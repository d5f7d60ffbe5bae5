"""Meta-analyses against conjugate algebra and brute-force integrals, and what is refused."""

import functools
import tempfile
import unittest
from pathlib import Path

import numpy as np
import pandas as pd
from scipy import integrate, stats

import millwright as mw
from millwright import effect_sizes
from millwright.diagnostics.convergence import mean_error
from millwright.errors import ArgumentError, DataError, LanguageError, ModelError
from millwright.studies.grid_density import GridDensity
from millwright.studies.meta_further import Lattice, factors_along
from millwright.studies.meta_models import KINDS

TRIALS = mw.demo.load("dressing_trials").frame
Y, S = (TRIALS[name].to_numpy() for name in ("difference", "standard_error"))


def study(**settings):
    return mw.studies.meta_analysis(
        TRIALS, "difference", scale="standardised difference", order="year", **settings
    )


@functools.cache
def found():
    return study(rope=(-0.1, 0.1)).fit(seed=1, progress=False)


SPREADS = np.linspace(0, 4, 801)


def likelihood(effect, spread):
    """Shape (spreads, effects)."""
    wide = np.hypot(S, np.atleast_1d(spread)[:, None])
    logs = [stats.norm.logpdf(y, effect[None, :], wide[:, at, None]) for at, y in enumerate(Y)]
    return np.exp(np.sum(logs, axis=0))


def over_effects(density, spread, low=-8.0, high=8.0, moment=0):
    """Integrate over the effect by Simpson's rule, at each spread."""
    grid = np.linspace(low, high, 2001)
    values = likelihood(grid, spread) * np.broadcast_to(density(grid), grid.shape) * grid**moment
    return integrate.simpson(values, x=grid)


def over_both(effect, spread, low=-8.0, high=8.0, moment=0):
    inner = over_effects(effect, SPREADS, low, high, moment)
    return integrate.simpson(inner * spread(SPREADS), x=SPREADS)


HALF = stats.halfnorm(scale=0.5).pdf


class Exact(unittest.TestCase):
    def test_four_evidences_and_what_follows_from_them(self):
        unit = stats.norm().pdf
        exact = {
            "random": over_both(unit, HALF),
            "common": over_effects(unit, 0.0)[0],
            "null random": integrate.simpson(
                likelihood(np.zeros(1), SPREADS)[:, 0] * HALF(SPREADS), x=SPREADS
            ),
            "null common": likelihood(np.zeros(1), 0.0)[0, 0],
        }
        table = found().model_table()
        for name, value in exact.items():
            self.assertAlmostEqual(table["log evidence"][name], np.log(value), 6)
        total = sum(exact.values())
        for name, value in exact.items():
            self.assertAlmostEqual(table["posterior probability"][name], value / total, 6)
        factor = (exact["random"] + exact["common"]) / (
            exact["null random"] + exact["null common"]
        )
        self.assertAlmostEqual(
            found().inclusion()["log Bayes factor"]["effect"], np.log(factor), 6
        )
        matrix = found().factor_matrix()
        ratio = np.log(exact["random"] / exact["common"])
        self.assertAlmostEqual(matrix.loc["random", "common"], ratio, 6)

    def test_common_effect_by_conjugate_algebra(self):
        precision = 1 + np.sum(1 / S**2)
        mean, sd = np.sum(Y / S**2) / precision, precision**-0.5
        row = found().table().loc["effect, common to all"]
        self.assertAlmostEqual(row["median"], mean, 6)
        self.assertAlmostEqual(row["95 % central interval, from"], mean - 1.959964 * sd, 5)
        self.assertAlmostEqual(row["probability above 0"], stats.norm.sf(0, mean, sd), 6)

    def test_other_priors_and_a_cut_one_by_brute_force(self):
        cases = {
            "student_t(0, 0.7, df=3)": (stats.t(3, scale=0.7).pdf, -8, 8),
            "normal(0, 0.5, high=0)": (lambda x: 2 * stats.norm.pdf(x, 0, 0.5), -4, 0),
            "uniform(low=-1, high=1)": (lambda x: 0.5, -1, 1),
            "normal(-0.4, 0.15)": (stats.norm(-0.4, 0.15).pdf, -3, 3),
        }
        spread = "inverse_gamma(shape=1, scale=0.15)"
        heavy = stats.invgamma(1, scale=0.15).pdf
        for text, (density, low, high) in cases.items():
            with self.subTest(text):
                made = study(effect=text, spread=spread)
                value = over_effects(density, 0.0, low, high)[0]
                self.assertAlmostEqual(made.exact["common"].log_evidence, np.log(value), 6)
                # Beyond a spread of 4 nothing is left of the likelihood of nine trials.
                value = over_both(density, heavy, low, high)
                self.assertAlmostEqual(made.exact["random"].log_evidence, np.log(value), 3)

    def test_draws_are_those_of_the_quadrature_and_of_the_visible_model(self):
        exact = over_both(stats.norm().pdf, HALF, moment=1) / over_both(stats.norm().pdf, HALF)
        draws = found().posterior.draws.get("effect")
        self.assertLess(abs(draws.mean() - exact), 4 * draws.std() / 100)
        sampled = study().model.fit(TRIALS, seed=2, progress=False).draws
        for name in ("effect", "spread"):
            one, other = found().posterior.draws.get(name), sampled.get(name)
            error = np.hypot(*(mean_error(x[..., None])[0] for x in (one, other)))
            self.assertLess(abs(one.mean() - other.mean()), 4.5 * error, name)
        cut = study(effect="normal(0, 0.5, high=0)").fit(seed=3, progress=False)
        effect, middle = cut.posterior.draws.get("effect"), cut.table()["median"]["effect"]
        self.assertLess(effect.max(), 0)
        self.assertLess(abs((effect < middle).mean() - 0.5), 4 * 0.5 / 100)

    def test_priors_far_from_the_trials_and_many_trials(self):
        # Priors and trials that hardly overlap: the density is exact where the mass is.
        data = {"estimate": [3.0, 3.01], "standard_error": [0.1, 0.1]}
        precision, total = 1 / 0.05**2 + 200, 3.005 * 200
        near = mw.studies.meta_analysis(data, effect="normal(0, 0.05)", unit=3).exact["common"]
        middle = near.of_effect.quantile(np.array([0.5]))[0]
        self.assertAlmostEqual(middle, total / precision, 6)
        flat = mw.studies.meta_analysis(data, effect="uniform(low=-1, high=0)", unit=3)
        low, high = flat.exact["common"].of_effect.interval(0.95, "central")
        self.assertTrue(-0.01 < low < high <= 0)
        heavy = mw.studies.meta_analysis(data, effect="laplace(0, 0.05)", unit=3)
        # With an exponential tail the likelihood is shifted by its variance over the scale.
        middle = heavy.exact["common"].of_effect.quantile(np.array([0.5]))[0]
        self.assertAlmostEqual(middle, 3.005 - (1 / 200) / 0.05, 4)
        generator = np.random.default_rng(5)
        errors = np.full(5000, 0.2)
        estimates = 0.2 + np.hypot(0.3, errors) * generator.standard_normal(5000)
        many = mw.studies.meta_analysis({"estimate": estimates, "standard_error": errors})
        exact = many.exact["random"]
        self.assertLess(exact.error, 1e-9)
        # The maximum of the likelihood in the spread, which so many trials settle.
        spread = np.sqrt(np.var(estimates) - 0.04)
        self.assertAlmostEqual(exact.of_spread.quantile(np.array([0.5]))[0], spread, 3)

    def test_own_effects_of_trials_given_the_others(self):
        table = found().trial_effects()
        draws = found().posterior.draws
        effect, spread = (draws.get(name).reshape(-1) for name in ("effect", "spread"))
        share = spread**2 / (spread**2 + S[0] ** 2)
        mean = (share * Y[0] + (1 - share) * effect).mean()
        self.assertLess(abs(table["mean"].iloc[0] - mean), 4 * table["sd"].iloc[0] / 100)
        self.assertTrue((table["sd"] < S).all())

    def test_path_and_trials_left_out_are_studies_of_their_own(self):
        path, left = found().path(), found().leave_one_out()
        first = mw.studies.meta_analysis(TRIALS.iloc[:4], "difference").fit(seed=1)
        self.assertAlmostEqual(
            path["log BF, effect"].iloc[3], first.inclusion()["log Bayes factor"]["effect"], 9
        )
        self.assertAlmostEqual(
            path["effect, median"].iloc[3], first.table()["median"]["effect"], 9
        )
        rest = mw.studies.meta_analysis(TRIALS.drop(4), "difference").fit(seed=1)
        row = left.loc["Old Barn"]
        self.assertAlmostEqual(row["effect, median"], rest.table()["median"]["effect"], 9)
        self.assertAlmostEqual(row["spread, median"], rest.table()["median"]["spread"], 9)
        backwards = mw.studies.meta_analysis(
            TRIALS.assign(year=-TRIALS["year"]), "difference", order="year"
        ).fit(seed=1)
        self.assertEqual(backwards.path().index[0], "Long Lane")

    def test_other_priors_and_widths_are_studies_of_their_own(self):
        tight = study(effect="normal(0, 0.2)").fit(seed=1).inclusion()["log Bayes factor"]
        table = found().under_priors({"tight": {"effect": "normal(0, 0.2)"}})
        self.assertAlmostEqual(table["log BF, effect"]["tight"], tight["effect"], 9)
        widths = found().effect_factors_by_width([0.2, 1.0])
        self.assertAlmostEqual(widths["log BF, effect"][0.2], tight["effect"], 9)
        # An effect of either sign is a positive or a negative one, with even chances.
        halves = np.logaddexp(widths["log BF, positive"], widths["log BF, negative"]) - np.log(2)
        np.testing.assert_allclose(halves, widths["log BF, effect"], atol=1e-9)

    def test_null_models_and_prior_probabilities_as_stated(self):
        narrow = study(null="normal(0, 0.05)").fit(seed=1)
        self.assertEqual(
            list(narrow.posteriors), ["random", "common", "null random", "null common"]
        )
        value = over_effects(stats.norm(0, 0.05).pdf, 0.0, -0.5, 0.5)[0]
        table = narrow.model_table()
        self.assertAlmostEqual(table["log evidence"]["null common"], np.log(value), 6)
        two = study(prior={"random": 3, "null random": 1}).fit(seed=1)
        logs = two.model_table()["log evidence"]
        factor = two.inclusion()["log Bayes factor"]
        self.assertAlmostEqual(factor["effect"], logs["random"] - logs["null random"], 9)
        self.assertTrue(np.isnan(factor["spread"]))
        self.assertEqual(two.inclusion()["in words"]["spread"], "not asked")
        alone = study(prior={"random": 1}).fit(seed=1, draws=100)
        self.assertEqual(set(alone.leave_one_out()["in words"]), {"not asked"})
        self.assertIn("was not asked", " ".join(two.answer))
        odds = 3 * np.exp(factor["effect"])
        share = two.inclusion()["posterior probability"]["effect"]
        self.assertAlmostEqual(share, odds / (1 + odds), 9)

    def test_averaged_effect_is_zero_where_there_is_none(self):
        values = found().numbers["effect, averaged, 0 if none"]
        none = 1 - found().inclusion()["posterior probability"]["effect"]
        self.assertLess(abs((values == 0).mean() - none), 4 * np.sqrt(none * (1 - none)) / 100)
        # A share above 0 would read as if the rest were below.
        column = found().table()["probability above 0"]
        self.assertTrue(np.isnan(column["effect, averaged, 0 if none"]))

    def test_density_on_a_grid_against_the_normal_distribution(self):
        density = GridDensity(
            log_density=lambda x: stats.norm.logpdf(x, 2, 0.5) + 7, edges=np.linspace(-4, 8, 25)
        )
        self.assertAlmostEqual(density.log_integral, 7, 8)
        shares = np.array([1e-6, 0.025, 0.5, 0.9])
        np.testing.assert_allclose(
            density.quantile(shares), stats.norm.ppf(shares, 2, 0.5), atol=1e-5
        )
        self.assertAlmostEqual(density.below(1.3), stats.norm.cdf(1.3, 2, 0.5), 7)
        np.testing.assert_allclose(
            density.interval(0.9, "hdi"), density.interval(0.9, "central"), atol=2e-3
        )


class Further(unittest.TestCase):
    def test_paths_are_those_of_studies_with_the_new_trials(self):
        new = np.array([[0.1, -0.5, -0.2]])
        errors = np.full(3, 0.2)
        evidences = {kind: Lattice(found(), kind).along(new, errors) for kind in KINDS}
        path = factors_along(evidences, found().study.model_priors)[0]
        for n in range(4):
            more = {"mill": [f"new {k}" for k in range(n)], "difference": new[0, :n]}
            table = pd.concat([TRIALS, pd.DataFrame({**more, "standard_error": errors[:n]})])
            exact = mw.studies.meta_analysis(table, "difference").fit(seed=1, draws=100)
            value = exact.inclusion()["log Bayes factor"]["effect"]
            self.assertAlmostEqual(path[n], value, 6)

    def test_shares_figure_and_what_is_refused(self):
        made = found().further_trials(0.2, trials=6, replications=60, seed=2)
        table = made.table()
        self.assertEqual(len(table), 14)
        ends = table.xs(("an effect", 6))
        logs = made.log_factors["an effect"][:, -1]
        self.assertAlmostEqual(ends["conclusive"], (logs >= np.log(10)).mean())
        self.assertGreater(np.median(logs), made.log_factors["no effect"][:, -1].mean())
        self.assertIn("5.23", str(made))
        line = mw.plots.further_trials(made).axes[0].lines[-4]
        np.testing.assert_allclose(line.get_ydata(), table.xs("an effect")["log BF, 50 %"])
        # So many trials that the models without an effect have no probability left as a number.
        errors = np.full(400, 0.05)
        sure = {"estimate": np.linspace(0.9, 1.1, 400), "standard_error": errors}
        settled = mw.studies.meta_analysis(sure).fit(seed=1, draws=100)
        more = settled.further_trials(0.1, trials=2, replications=10)
        self.assertTrue(np.isfinite(more.log_factors["no effect"]).all())
        one_side = study(prior={"random": 1}).fit(seed=1)
        for call, words in (
            (lambda: found().further_trials(-1), "above 0"),
            (lambda: found().further_trials("x"), "above 0"),
            (lambda: found().further_trials([0.1, 0.2], trials=3), "2 standard errors"),
            (lambda: found().further_trials(0.1, trials=0), "whole number"),
            (lambda: found().further_trials(0.1, threshold=1), "above 1"),
            (lambda: one_side.further_trials(0.1), "one side only"),
            (lambda: mw.plots.further_trials(3), "further_trials"),
        ):
            with self.assertRaisesRegex(ArgumentError, words):
                call()


class Told(unittest.TestCase):
    def test_usual_priors_are_pinned(self):
        settings = study().settings
        self.assertEqual(settings["effect"], "normal(0, 1)")
        self.assertEqual(settings["spread"], "half_normal(0.5)")
        self.assertEqual(study(unit=30).settings["spread"], "half_normal(15)")
        self.assertIn("as given by you", str(study(effect="normal(0, 2)")))

    def test_answer_names_size_evidence_and_what_was_not_asked(self):
        told = " ".join(found().answer)
        for words in ("negative with probability 0.993", "5.23 times", "Old Barn", "unpublished"):
            self.assertIn(words, told)
        self.assertIn("WITHHOLD", found().weighed[0])

    def test_the_average_is_a_posterior(self):
        average = found().average()
        shares = found().shares
        chance = average.probability("effect == 0").value
        absent = shares["null random"] + shares["null common"]
        self.assertLess(abs(chance - absent), 4 * np.sqrt(absent * (1 - absent) / 10_000))
        both = average.probability("all(effect == 0)").value
        self.assertEqual(both, chance)
        np.testing.assert_array_equal(
            average.draws.get("effect"), found().numbers["effect, averaged, 0 if none"]
        )
        # Effect and spread are of the same model in each draw.
        joint = np.mean((average.draws.get("effect") == 0) & (average.draws.get("spread") == 0))
        self.assertLess(abs(joint - shares["null common"]), 0.01)
        self.assertIn("a model lacks", str(average))
        for call in (average.evidence, average.leave_one_out):
            with self.assertRaises((ArgumentError, ModelError)):
                call()

    def test_results_on_the_scale_of_readers(self):
        table = effect_sizes.log_odds_ratio([5, 4, 10], [50, 40, 60], [10, 5, 12], [50, 40, 60])
        odds = mw.studies.meta_analysis(table, scale="log odds ratio").fit(seed=1)
        natural = odds.natural()
        for name in ("effect", "effect, common to all"):
            median = np.exp(odds.table()["median"][name])
            self.assertAlmostEqual(natural["odds ratio, median"][name], median, 9)
        self.assertIn("As odds ratio", " ".join(odds.answer))
        with self.assertRaisesRegex(ArgumentError, "scale"):
            found().natural()

    def test_few_trials_and_priors_elsewhere_are_cautions(self):
        for rows, words in ((1, "One trial alone"), (2, "Two trials")):
            few = mw.studies.meta_analysis(TRIALS.iloc[:rows], "difference").fit(seed=1)
            self.assertIn(words, str(few.verdict))
        away = study(effect="uniform(low=2, high=3)").fit(seed=1)
        self.assertIn("held by the prior", str(away.verdict))
        with self.assertRaisesRegex(ArgumentError, "nothing is left"):
            mw.studies.meta_analysis(TRIALS.iloc[:1], "difference").fit(seed=1).leave_one_out()

    def test_columns_called_like_unknowns(self):
        table = TRIALS.rename(columns={"difference": "effect", "mill": "spread"})
        made = mw.studies.meta_analysis(table, "effect", label="spread")
        with tempfile.TemporaryDirectory() as folder:
            place = made.write(Path(folder) / "sheets")
            model = mw.Model.read(place / "random.toml")
            model.bind(pd.read_csv(place / "data.csv"))
            odd = made.fit(seed=1, save=Path(folder) / "stored")
            self.assertEqual(str(mw.studies.load(Path(folder) / "stored")), str(odd))
        self.assertIn("about `effect`", odd.question)
        self.assertAlmostEqual(odd.log_evidences["random"], found().log_evidences["random"], 9)

    def test_figures_show_the_numbers_of_the_tables(self):
        axes = mw.plots.study(found(), "forest").axes[0]
        offsets = axes.collections[0].get_offsets()
        np.testing.assert_allclose(offsets[:, 0], Y)
        texts = [text.get_text() for text in axes.texts]
        self.assertIn("-0.31 (-0.54 to -0.08)", texts)
        bars = mw.plots.study(found(), "models").axes[0].patches
        np.testing.assert_allclose(
            [bar.get_width() for bar in bars], found().model_table()["posterior probability"]
        )
        line = mw.plots.study(found(), "path").axes[0].lines[0]
        np.testing.assert_allclose(line.get_ydata(), found().path()["log BF, effect"])
        self.assertEqual(len(mw.plots.prior_densities(study()).axes), 2)


class Refused(unittest.TestCase):
    def test_data_that_cannot_be_put_together(self):
        base = TRIALS.rename(columns={"difference": "estimate"})
        sizes = np.array([20, 50, 100, 400, 1000])
        ratios = pd.DataFrame({"OR": [1.2, 0.8], "se": [0.1, 0.2]})
        cases = {
            "above 0": base.assign(standard_error=[0.0, *S[1:]]),
            "names 2 rows": base.assign(mill=["a", "a", *TRIALS["mill"][2:]]),
            "missing in 1": base.assign(estimate=[np.nan, *Y[1:]]),
            "no rows": base.iloc[:0],
        }
        for words, table in cases.items():
            with self.assertRaisesRegex(DataError, words):
                mw.studies.meta_analysis(table)
        bounded = {
            "log_odds_ratio": (ratios, "OR"),
            "fisher_z": (ratios.assign(r=[0.2, 0.5]), "r"),
            "effect_sizes.logit": (ratios.assign(share=[0.2, 0.5]), "share"),
        }
        for words, (table, name) in bounded.items():
            with self.assertRaisesRegex(DataError, words):
                mw.studies.meta_analysis(table, name)
            mw.studies.meta_analysis(table, name, scale="difference")
        squares = pd.DataFrame({"estimate": 0.2, "standard_error": 4 / sizes, "n": sizes})
        with self.assertRaisesRegex(DataError, "looks like variances"):
            mw.studies.meta_analysis(squares, size="n")
        mw.studies.meta_analysis(squares.assign(standard_error=2 / np.sqrt(sizes)), size="n")
        for given in ({}, {"effect": "normal(0, 50)"}):
            with self.assertRaisesRegex(ArgumentError, "unit="):
                mw.studies.meta_analysis(base.assign(estimate=50 * Y), **given)

    def test_settings_that_make_no_sense(self):
        cases = {
            "proper distribution": {"effect": "flat()"},
            "prior as text": {"effect": 3},
            "never negative": {"spread": "normal(0, 1)"},
            "Did you mean `random`": {"prior": {"rndom": 1}},
            "is negative": {"prior": {"random": -1}},
            "nothing any": {"prior": {"random": 0}},
            "above 0": {"unit": -1},
            "There is no column": {"size": "stones"},
            "low to high": {"rope": (1, 0)},
        }
        for words, settings in cases.items():
            with self.subTest(words), self.assertRaisesRegex(ArgumentError, words):
                study(**settings)
        with self.assertRaises((LanguageError, ModelError)):
            study(effect="normal(0")
        with self.assertRaisesRegex(ArgumentError, "must be one of"):
            mw.studies.meta_analysis(TRIALS, "difference", scale="odds")
        with self.assertRaisesRegex(ArgumentError, "there are effect and spread"):
            found().under_priors({"x": {"mean": "normal(0, 1)"}})
        with self.assertRaisesRegex(ArgumentError, "above 0"):
            found().effect_factors_by_width([0])


class EffectSizes(unittest.TestCase):
    def check(self, table, estimate, error):
        np.testing.assert_allclose(table["estimate"], estimate, rtol=1e-12)
        np.testing.assert_allclose(table["standard_error"], error, rtol=1e-12)

    def test_counts_by_hand(self):
        odds = effect_sizes.log_odds_ratio([10, 0], [50, 20], [20, 4], [60, 20])
        first = np.log(10 * 40 / (40 * 20))
        zero = np.log(0.5 * 16.5 / (20.5 * 4.5))
        errors = [(1 / 10 + 1 / 40 + 1 / 20 + 1 / 40) ** 0.5]
        errors += [(1 / 0.5 + 1 / 20.5 + 1 / 4.5 + 1 / 16.5) ** 0.5]
        self.check(odds, [first, zero], errors)
        risk = effect_sizes.log_risk_ratio([10, 0], [50, 20], [20, 4], [60, 20])
        errors = [(1 / 10 - 1 / 50 + 1 / 20 - 1 / 60) ** 0.5]
        errors += [(1 / 0.5 - 1 / 21 + 1 / 4.5 - 1 / 21) ** 0.5]
        self.check(risk, [np.log((10 / 50) / (20 / 60)), np.log((0.5 / 21) / (4.5 / 21))], errors)
        self.check(effect_sizes.logit(10, 50), [np.log(10 / 40)], [(1 / 10 + 1 / 40) ** 0.5])

    def test_means_and_correlations_by_hand(self):
        table = effect_sizes.standardised_difference(12, 2, 10, 10, 3, 12)
        pooled = np.sqrt((9 * 4 + 11 * 9) / 20)
        # The usual approximation of the correction, 1 - 3 / (4 df - 1), is right to three digits.
        g = (2 / pooled) * (1 - 3 / (4 * 20 - 1))
        self.assertAlmostEqual(table["estimate"][0], g, 3)
        exact = table["estimate"][0]
        self.check(table, [exact], [np.sqrt(22 / 120 + exact**2 / 44)])
        self.check(effect_sizes.fisher_z([0.5], [28]), [np.arctanh(0.5)], [0.2])

    def test_numbers_that_cannot_be_right(self):
        cases = (
            (effect_sizes.log_odds_ratio, (5, 4, 1, 4), "no more events"),
            (effect_sizes.log_odds_ratio, (-1, 4, 1, 4), "whole numbers"),
            (effect_sizes.logit, (1.5, 4), "whole numbers"),
            (effect_sizes.logit, ("a", 4), "hold numbers"),
            (effect_sizes.logit, ([1, 2, 3], [4, 5]), "differ in length"),
            (effect_sizes.logit, ([1, np.nan], 4), "without gaps"),
            (effect_sizes.fisher_z, (1.0, 10), "between -1 and 1"),
            (effect_sizes.fisher_z, (0.5, 3), "four pairs"),
            (effect_sizes.standardised_difference, (1, 0, 5, 1, 1, 5), "above 0"),
            (effect_sizes.standardised_difference, (1, 1, 1, 1, 1, 5), "two values"),
        )
        for function, given, words in cases:
            with self.subTest(words), self.assertRaisesRegex(DataError, words):
                function(*given)
        with self.assertRaisesRegex(ArgumentError, "correction"):
            effect_sizes.logit(0, 4, correction=0)


if __name__ == "__main__":
    unittest.main()
