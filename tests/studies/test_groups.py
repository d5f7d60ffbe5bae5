"""Studies of groups against quadrature, closed forms, and data that must be refused."""

import functools
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
import pandas as pd
from scipy import integrate, stats

import millwright as mw
from millwright.diagnostics.convergence import mean_error
from millwright.errors import ArgumentError, DataError
from millwright.sampling.compiling import compilations
from millwright.studies.effect_evidence import TStatistic, log_factor, log_ratio, of_two_groups

SACKS = mw.demo.load("sack_weights").frame
STONES = mw.demo.load("dressed_stones").frame


@functools.cache
def normal_sacks():
    study = mw.studies.two_groups(SACKS, "weight", "spout", family="normal", rope=(-0.1, 0.1))
    return study.fit(seed=1, progress=False)


@functools.cache
def robust_sacks():
    return mw.studies.two_groups(SACKS, "weight", "spout").fit(seed=1, progress=False)


def location_density(values, middle, wide, grid):
    """Density of a group's location, its scale integrated over a half-normal prior."""
    scale = np.geomspace(0.02, 8 * np.std(values) + 1e-9, 1500)[:, None]
    n = len(values)
    squares = np.sum((values - values.mean()) ** 2)
    log_density = (
        -n * np.log(scale)
        - (squares + n * (values.mean() - grid) ** 2) / (2 * scale**2)
        + stats.norm.logpdf(grid, middle, wide)
        + stats.halfnorm.logpdf(scale, scale=wide)
    )
    density = integrate.trapezoid(np.exp(log_density - log_density.max()), scale[:, 0], axis=0)
    return density / integrate.trapezoid(density, grid)


class TwoGroups(unittest.TestCase):
    def test_normal_groups_against_quadrature(self):
        found = normal_sacks()
        every = SACKS["weight"].to_numpy()
        wide = float(f"{5 * float(f'{every.std(ddof=1):.3g}'):.3g}")
        middle = round(every.mean(), 2)
        densities, grid = {}, np.linspace(46, 57, 2201)
        for spout, rows in SACKS.groupby("spout"):
            densities[spout] = location_density(rows["weight"].to_numpy(), middle, wide, grid)
        step = grid[1] - grid[0]
        # The difference of independent locations: a convolution on the grid.
        apart = np.convolve(densities["south"], densities["north"][::-1]) * step
        at = np.arange(-len(grid) + 1, len(grid)) * step
        mean = np.sum(apart * at) * step
        draws = found.posterior.draws.get("difference")
        error = mean_error(draws[..., None])[0]
        self.assertLess(abs(draws.mean() - mean), 4.5 * error)
        above = np.sum(apart[at > 0]) * step
        share = (draws > 0).astype(float)
        self.assertLess(abs(share.mean() - above), 4.5 * mean_error(share[..., None])[0])
        self.assertIn("`south` is higher than `north`", found.answer[0])

    def test_usual_priors_are_pinned(self):
        study = mw.studies.two_groups(SACKS, "weight", "spout")
        text = study.model.describe()
        for prior in (
            "location ~ normal(location=50.69, scale=8.25) per spout",
            "scale ~ half_normal(scale=8.25) per spout",
            "df_above_one ~ exponential(rate=1 / 29)",
        ):
            self.assertIn(prior, text)
        self.assertIn("effect ~ cauchy(location=0, scale=1)", str(study))

    def test_robust_study_is_moved_less_by_the_heavy_sack(self):
        robust = robust_sacks().posterior.draws.get("location")[..., 1].mean()
        normal = normal_sacks().posterior.draws.get("location")[..., 1].mean()
        self.assertLess(robust, normal - 0.2)
        self.assertTrue(robust_sacks().verdict.good)

    def test_decisions_and_table_go_with_the_posterior(self):
        found = normal_sacks()
        difference, effect = found.decisions
        self.assertEqual(difference.region, (-0.1, 0.1))
        self.assertEqual(list(effect.draws), ["effect of south - north"])
        self.assertIn("difference", found.table().index)
        shown = found.with_interval(0.8, "hdi")
        self.assertIn("80 % HDI", shown.answer[0])
        self.assertIn("80 % HDI, from", shown.table().columns)

    def test_three_groups_are_compared_pairwise_and_pooled(self):
        data = SACKS.assign(spout=np.where(np.arange(len(SACKS)) < 6, "old", SACKS["spout"]))
        study = mw.studies.two_groups(data, "weight", "spout", pooled=True)
        found = study.fit(seed=2, draws=400, progress=False)
        pairs = ["north - old", "old - north", "south - north", "south - old"]
        self.assertLessEqual(
            {"old - north", "south - north", "south - old"}, set(found.table().index), pairs
        )
        draws = found.posterior.draws.get("location")
        row = found.differences().loc[("south - north", "difference")]
        self.assertAlmostEqual(row["mean"], float((draws[..., 2] - draws[..., 0]).mean()))
        self.assertFalse(found.factors)
        first = found.effect_factor(labels=["north", "south"]).log_value
        self.assertAlmostEqual(first, found.effect_factor(labels=["south", "north"]).log_value)
        self.assertIn("between", study.model.describe())

    def test_wide_tables_of_unequal_length(self):
        parts = {name: rows["weight"].to_numpy() for name, rows in SACKS.groupby("spout")}
        study = mw.studies.two_groups(parts, columns=["south", "north"])
        self.assertEqual(study.values.labels, ("south", "north"))
        self.assertEqual(len(study.data), len(SACKS))
        self.assertIn("`south` 13 of 16", study.remarks[0])

    def test_data_that_must_be_refused(self):
        tied = pd.DataFrame(
            {"x": [5.0] * 6 + [5.1, 5.2, 6.0, 4.0, 3.0], "g": ["a"] * 8 + ["b"] * 3}
        )
        for words, error, call in (
            ("All 3 values", DataError, lambda: two([1, 2, 3, 4, 4, 4], list("aaabbb"))),
            ("heavy-tailed", DataError, lambda: mw.studies.two_groups(tied, "x", "g")),
            ("one label", DataError, lambda: two([1, 2, 3], list("aaa"))),
            ("missing in 1 of 3", DataError, lambda: two([1, 2, None], list("abb"))),
            ("infinite in row 2", DataError, lambda: two([1, np.inf, 3], list("abb"))),
            ("another unit", DataError, lambda: two([1e301, 3e301, 2e301], list("abb"))),
            ("another unit", DataError, lambda: two([1e-301, 3e-301, 2e-301], list("abb"))),
            ("no labels", DataError, lambda: two([1, 2, 3], [1j, 2, 2])),
            ("holds 'x'", DataError, lambda: two([1, "x", 3], list("abb"))),
            ("Did you mean `weight`", ArgumentError, lambda: sacks(outcome="weigth")),
            (
                "Did you mean `scale`",
                ArgumentError,
                lambda: sacks(priors={"scal": "normal(0, 1)"}),
            ),
            ("`family` must be", ArgumentError, lambda: sacks(family="gamma")),
            ("No row has `west`", ArgumentError, lambda: sacks(labels=["west", "north"])),
            ("from low to high", ArgumentError, lambda: sacks(rope=(1, 0))),
            ("has no rows", DataError, lambda: two([], [])),
            ("not list", DataError, lambda: mw.studies.two_groups([1, 2], "x", "g")),
        ):
            with self.subTest(words), self.assertRaisesRegex(error, words):
                call()
        self.assertTrue(mw.studies.two_groups(tied, "x", "g", family="normal"))

    def test_labels_that_differ_in_a_late_digit_stay_apart(self):
        made = two([1.0, 2.0, 3.0, 5.0], [1234567.1, 1234567.2] * 2)
        self.assertEqual(made.values.labels, ("1234567.1", "1234567.2"))
        made = two([1.0, 2.0, 3.0, 5.0], [1e300, 2.0] * 2)
        self.assertEqual(made.values.labels, ("2", "1e+300"))

    def test_units_however_small_make_no_difference(self):
        values = np.array([3.0, 5.0, 4.0, 8.0, 6.0])
        labels = list("aabbb")
        plain, tiny = (
            two(values * unit, labels).fit(seed=1, progress=False) for unit in (1.0, 1e-40)
        )
        one, other = (found.posterior.draws.get("location") for found in (plain, tiny))
        away = np.abs(one.mean(axis=(0, 1)) - 1e40 * other.mean(axis=(0, 1)))
        self.assertTrue((away < 0.1 * one.std(axis=(0, 1))).all(), away)

    def test_a_group_with_one_row_is_said(self):
        study = two([1.0, 2.0, 3.0, 2.5], list("aaab"))
        self.assertTrue(any("single row" in line for line in study.data_lines()))
        self.assertIn("single row", str(study))


def two(values, labels):
    return mw.studies.two_groups({"x": values, "g": labels}, "x", "g")


def sacks(**settings):
    columns = {"outcome": "weight", "group": "spout", **settings}
    return mw.studies.two_groups(SACKS, **columns)


class QuickFits(unittest.TestCase):
    def study(self, rows=24, **settings):
        generator = np.random.default_rng(3)
        table = {"x": generator.normal(10, 2, rows), "g": np.tile(["a", "b"], rows // 2)}
        return mw.studies.two_groups(table, "x", "g", **settings)

    def method(self, study, **settings):
        found = study.fit(seed=2, progress=False, **settings)
        return found.posterior.record.method["method"]

    def test_data_of_another_length_compile_nothing(self):
        self.assertEqual(self.method(self.study()), "fixed_length")
        before = compilations()
        self.assertEqual(self.method(self.study(rows=20)), "fixed_length")
        self.assertEqual(compilations(), before)

    def test_doubts_many_rows_and_settings_ask_the_usual_sampler(self):
        self.assertEqual(
            self.method(self.study(rows=2000, family="normal"), draws=100), "no_u_turn"
        )
        self.assertEqual(self.method(self.study(), target_acceptance=0.9, draws=100), "no_u_turn")
        with mock.patch("millwright.models.quick.doubtful", return_value=True):
            self.assertEqual(self.method(self.study()), "no_u_turn")

    def test_a_stored_quick_run_is_read_back(self):
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "study"
            found = self.study().fit(seed=1, progress=False, save=place)
            again = mw.studies.resume(place, progress=False)
            np.testing.assert_array_equal(
                again.posterior.draws.get("location"), found.posterior.draws.get("location")
            )
            self.assertEqual(again.posterior.record.method["method"], "fixed_length")


class SingleAndPairs(unittest.TestCase):
    def test_pairs_are_a_single_group_of_differences(self):
        pairs = mw.studies.paired(STONES, "before", "after", family="normal")
        change = STONES["after"] - STONES["before"]
        single = mw.studies.one_group({"change": change}, against=0, family="normal")
        # Columns may be called as quantities of the model are.
        names = {"before": "difference", "after": "effect"}
        named = mw.studies.paired(STONES.rename(columns=names), *names.values(), family="normal")
        one, *others = (study.fit(seed=3, progress=False) for study in (pairs, single, named))
        for other in others:
            np.testing.assert_allclose(
                one.posterior.draws.get("effect"), other.posterior.draws.get("effect"), rtol=1e-9
            )
        self.assertIn("The change is higher than 0", " ".join(one.answer))

    def test_without_a_value_nothing_is_compared(self):
        study = mw.studies.one_group(STONES, "before")
        self.assertEqual(list(study.models), ["robust"])
        found = study.fit(seed=1, draws=300, progress=False)
        self.assertFalse(found.decisions or found.factors)
        with self.assertRaisesRegex(ArgumentError, "compares with nothing"):
            found.effect_factor()
        with self.assertRaisesRegex(ArgumentError, "against"):
            mw.studies.one_group(STONES, "before", rope=(-1, 1))


class Evidence(unittest.TestCase):
    def test_a_cauchy_prior_is_a_student_t_one(self):
        for more in ("", ", low=0", ", high=0"):
            one, other = (
                normal_sacks().effect_factor(f"{text}{more})").log_value
                for text in ("cauchy(0, 0.7", "student_t(0, 0.7, df=1")
            )
            self.assertAlmostEqual(one, other, 9)

    def test_cauchy_prior_against_the_integral_over_its_mixture(self):
        # Rouder et al. (2009), eq. 1: a Cauchy prior is a normal one with inverse gamma variance.
        shares = np.array([0, 1e-6, 1e-3, 0.1, 0.5, 0.9, 0.999, 1 - 1e-6, 1])
        for found, width in (
            (TStatistic(0.09, 4, 1.5), 0.707),
            (TStatistic(2.6, 25, 6.7), 0.707),
            (TStatistic(-3.1, 40, 10.0), 0.2),
            (TStatistic(13.0, 2, 1.0), 0.707),
        ):
            value, error = log_factor(
                found,
                lambda e, width=width: stats.cauchy.logpdf(e, 0, width),
                stats.cauchy.ppf(shares, 0, width).tolist(),
            )

            def inside(log_g, found=found, width=width):
                g, df = np.exp(log_g), found.df
                grown = 1 + found.size * g * width**2
                power = -(df + 1) / 2
                return (
                    grown**-0.5
                    * (1 + found.t**2 / (grown * df)) ** power
                    / np.sqrt(2 * np.pi * g)
                    * np.exp(-1 / (2 * g))
                )

            parts = zip((-8, -2, 0, 2, 6, 12, 25), (-2, 0, 2, 6, 12, 25, 60), strict=True)
            whole = sum(integrate.quad(inside, *ends, epsrel=1e-11)[0] for ends in parts)
            null = -(found.df + 1) / 2 * np.log1p(found.t**2 / found.df)
            self.assertAlmostEqual(value, float(np.log(whole) - null), places=7)
            self.assertLess(error, 1e-9)

    def test_density_of_t_against_the_noncentral_distribution(self):
        found = TStatistic(2.2, 12, 5.0)
        effects = np.array([-0.7, 0.0, 0.3, 2.0])
        exact = stats.nct.logpdf(2.2, 12, effects * np.sqrt(5.0)) - stats.t.logpdf(2.2, 12)
        np.testing.assert_allclose(log_ratio(found, effects), exact, atol=1e-10)

    def test_t_statistic_is_the_classical_one(self):
        north, south = (rows["weight"].to_numpy() for _, rows in SACKS.groupby("spout"))
        classic = stats.ttest_ind(south, north)
        self.assertAlmostEqual(of_two_groups(north, south).t, float(classic.statistic))

    def test_sampled_models_of_the_evidence_agree(self):
        found = normal_sacks()
        model = found.study.models["effect"]
        sampled = model.fit(found.study.data, seed=4, draws=2000, progress=False)
        ratio = sampled.bayes_factor("effect == 0")
        stated = 3 * ratio.standard_error + 0.02
        self.assertLess(abs(ratio.log_value + found.effect_factor().log_value), stated)

    def test_one_sided_halves_make_the_whole(self):
        table = robust_sacks().effect_factors_by_width([0.3, 1.0])
        halves = np.logaddexp(table["log BF, positive"], table["log BF, negative"]) - np.log(2)
        np.testing.assert_allclose(halves, table["log BF, effect"], atol=1e-9)
        heavy = " ".join(robust_sacks().effect_factor().reasons)
        self.assertIn("take this evidence with care", heavy)

    def test_bad_priors_and_widths(self):
        for call in (
            lambda: robust_sacks().effect_factor("dirichlet(concentration=1)"),
            lambda: robust_sacks().effect_factors_by_width([0.0]),
            lambda: robust_sacks().effect_factor(labels=["north"]),
            lambda: robust_sacks().effect_factor(labels=["north", "west"]),
        ):
            with self.assertRaises((ArgumentError, mw.errors.ModelError)):
                call()


if __name__ == "__main__":
    unittest.main()
