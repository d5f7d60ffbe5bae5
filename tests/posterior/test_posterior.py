"""What a posterior answers: tables, intervals, statements, labelled draws."""

import re
import unittest

import numpy as np
from scipy import stats

import millwright as mw
from millwright.draws.intervals import interval
from millwright.draws.numbers import decimals_of, probability_text, range_text, supported
from millwright.errors import ArgumentError, LanguageError, ModelError, UnknownLabelError
from tests.fits import known_scale, straight, yeasts


class Table(unittest.TestCase):
    def test_headings_state_kind_and_level(self):
        frame = straight().table(level=0.9, kind="hdi")
        self.assertIn("90 % HDI, from", frame.columns)
        self.assertIn("95 % central interval", straight().summary())
        self.assertEqual(list(frame.index), ["start", "drying", "noise", "after_six_hours"])

    def test_choice_of_quantities(self):
        self.assertEqual(list(straight().table("drying").index), ["drying"])
        self.assertEqual(list(yeasts().table(["share"]).index), ["share[brewer]", "share[wild]"])
        with self.assertRaisesRegex(UnknownLabelError, "Did you mean `drying`"):
            straight().table("dryign")

    def test_bad_level_or_kind(self):
        for bad in ({"level": 95}, {"level": 0}, {"level": "x"}, {"kind": "equal"}):
            with self.subTest(bad=bad), self.assertRaises(ArgumentError):
                straight().table(**bad)

    def test_text_starts_with_the_verdict_and_explains_directions(self):
        text = str(straight())
        self.assertTrue(text.startswith("Verdict: Converged"))
        self.assertIn("larger is worse", text)

    def test_unconverged_results_print_under_a_warning(self):
        model = mw.Model.read(mw.demo.sheet_path("drying.toml"))
        short = model.fit(mw.demo.load("drying_loft").frame, draws=20, warmup=20, progress=False)
        self.assertTrue(str(short).startswith("Verdict: NOT CONVERGED: do not use"))
        self.assertIn("drying", short.summary())


class Numbers(unittest.TestCase):
    def test_digits_follow_the_standard_error(self):
        cases = [
            (0.123456, 0.004, "0.12"),
            (18.0412, 0.004, "18.04"),
            (1234.5, 30.0, "1234"),
            (0.0, 0.1, "0"),
            (3.2e-7, 1e-9, "3.20e-07"),
            (-2.5e9, 1e6, "-2.500e+09"),
        ]
        for value, error, text in cases:
            with self.subTest(value=value):
                self.assertEqual(supported(value, error), text)

    def test_all_numbers_of_a_row_have_the_decimals_at_which_its_sd_shows_two_digits(self):
        cases = [
            ((-0.490, 0.152, 0.16), "-0.49 to 0.15"),
            ((0.235, 0.72, 0.12), "0.23 to 0.72"),
            ((15.0203, 15.3711, 0.0887), "15.020 to 15.371"),
            ((0.0001, 2.0864, 0.6), "0.00 to 2.09"),
            ((38213.0, 44530.0, 1600.0), "38213 to 44530"),
            ((3.1e-7, 5.2e-7, 5e-8), "3.10e-07 to 5.20e-07"),
        ]
        for (low, high, sd), text in cases:
            with self.subTest(text=text):
                self.assertEqual(range_text(low, high, sd), text)
        self.assertEqual([decimals_of(sd) for sd in (0.0996, 9.96, 120.0, 0.0)], [2, 0, -1, 3])
        table = straight().summary()
        for line in table.split("\n")[1:5]:
            numbers = re.findall(r"-?\d+\.\d+", line)[:3]
            decimals = {len(x.split(".")[1]) for x in numbers}
            self.assertEqual(len(decimals), 1, line)
        self.assertIn("may change with another seed", table)

    def test_what_cannot_be_negative_is_not_asked_about(self):
        frame = straight().table()
        self.assertTrue(np.isnan(frame.loc["noise", "probability above 0"]))
        self.assertLess(frame.loc["drying", "probability above 0"], 0.01)

    def test_probabilities_are_never_0_or_1(self):
        self.assertEqual(probability_text(0.0, 4000), "< 0.001")
        self.assertEqual(probability_text(1.0, 4000), "> 0.999")
        self.assertEqual(probability_text(0.5, 4000), "0.500")
        self.assertEqual(probability_text(1.0, 40), "> 0.90")


class Intervals(unittest.TestCase):
    def test_central_and_hdi_of_a_known_distribution(self):
        draws = stats.gamma(2).ppf((np.arange(200_000) + 0.5) / 200_000)
        low, high = interval(draws, 0.9)
        np.testing.assert_allclose([low, high], stats.gamma(2).ppf([0.05, 0.95]), rtol=1e-3)
        low, high = interval(draws, 0.9, "hdi")
        np.testing.assert_allclose(stats.gamma(2).pdf(low), stats.gamma(2).pdf(high), rtol=0.02)
        self.assertAlmostEqual(np.mean((draws >= low) & (draws <= high)), 0.9, places=4)

    def test_result_carries_labels_level_and_kind(self):
        ends = yeasts().interval("share", level=0.8, kind="hdi")
        self.assertEqual(ends.dims, ("end", "yeast"))
        self.assertEqual(ends.attrs, {"kind": "hdi", "level": 0.8})
        self.assertTrue((ends.sel(end="low") < ends.sel(end="high")).all())


class Draws(unittest.TestCase):
    def test_labelled_draws(self):
        draws = yeasts()["share"]
        self.assertEqual(draws.dims, ("chain", "iteration", "yeast"))
        self.assertEqual(draws.sizes["iteration"], 1000)
        self.assertEqual(list(draws.coords["chain"].values[[0, 3]]), [1, 4])
        self.assertEqual(list(draws.coords["yeast"].values), ["brewer", "wild"])

    def test_derived_quantities_come_from_the_draws(self):
        share, gap = yeasts()["share"], yeasts()["difference"]
        want = share.sel(yeast="wild").values - share.sel(yeast="brewer").values
        np.testing.assert_array_equal(gap.values, want)

    def test_what_is_done_to_draws_given_out_changes_no_later_answer(self):
        fit = straight()
        for name in ("drying", "after_six_hours"):
            before = fit[name].values.copy()
            mine = fit[name]
            mine *= 100
            np.testing.assert_array_equal(fit[name], before)
        with self.assertRaisesRegex(ValueError, "read-only"):
            fit.draws.single(["drying"])["drying"][:] = 0

    def test_frame_has_one_row_a_draw(self):
        frame = yeasts().to_dataframe()
        self.assertEqual(
            list(frame.columns),
            ["chain", "iteration", "share[brewer]", "share[wild]", "difference"],
        )
        self.assertEqual(len(frame), 4000)

    def test_record_says_what_made_it(self):
        record = straight().record
        self.assertEqual(record.seed, 7)
        self.assertEqual(record.settings["draws"], 1000)
        self.assertIn("jax", record.versions)
        self.assertEqual(len(record.fingerprint), 64)


class Statements(unittest.TestCase):
    def test_probability_of_a_known_normal(self):
        posterior, y = known_scale()
        precision = 0.25 + len(y)
        cut = round(y.mean() + 0.1, 3)
        want = stats.norm(y.sum() / precision, precision**-0.5).cdf(cut)
        found = posterior.probability(f"level < {cut}")
        self.assertLess(abs(found.value - want), 4.5 * found.monte_carlo_error)

    def test_one_answer_for_each_label_or_a_joint_one(self):
        each = yeasts().probability("share < 0.15")
        self.assertEqual(list(each), ["brewer", "wild"])
        both = float(yeasts().probability("all(share < 0.15)"))
        some = float(yeasts().probability("any(share < 0.15)"))
        self.assertLessEqual(both, min(float(p) for p in each.values()))
        self.assertGreaterEqual(some, max(float(p) for p in each.values()))

    def test_standard_error_is_never_zero(self):
        sure = straight().probability("drying < 0")
        self.assertEqual(sure.value, 1.0)
        self.assertGreater(sure.monte_carlo_error, 0)
        self.assertIn("above 0.999", str(sure))

    def test_bad_statements(self):
        cases = [
            ("drying", ArgumentError),
            ("drying <", LanguageError),
            ("nothing < 0", ModelError),
            ("drying + 1", ArgumentError),
            (3, ArgumentError),
        ]
        for statement, error in cases:
            with self.subTest(statement=statement), self.assertRaises(error):
                straight().probability(statement)


if __name__ == "__main__":
    unittest.main()
