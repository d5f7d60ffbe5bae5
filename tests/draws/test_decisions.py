"""Statements, decisions, contrasts, regions and tables: exact answers and bad input."""

import io
import unittest
from html.parser import HTMLParser

import numpy as np
import pandas as pd
from scipy import stats

import millwright as mw
from millwright.draws.decision import decide
from millwright.draws.folding import folded
from millwright.draws.region import highest_density_region
from millwright.draws.table import make_table
from millwright.draws.table_forms import written
from millwright.errors import ArgumentError, LanguageError, ModelError, UnknownLabelError
from tests.fits import known_scale, straight, yeasts


class Decisions(unittest.TestCase):
    def setUp(self):
        # Quantiles of a standard normal: every share and interval is known.
        self.draws = {"x": stats.norm.ppf((np.arange(4000) + 0.5) / 4000).reshape(4, 1000)}

    def made(self, rope=None, null=None, level=0.95, kind="central"):
        return decide("x", self.draws, rope, null, level, kind)

    def test_rule(self):
        for rope, outcome in (
            ((-3, 3), "accept"),
            ((2.5, 3), "reject"),
            ((-4, -2.5), "reject"),
            ((-1, 1), "withhold"),
            ((-1.9, 3), "withhold"),
        ):
            with self.subTest(rope=rope):
                self.assertEqual(self.made(rope).outcomes, {"x": outcome})
        self.assertEqual(self.made(null=2.5).outcomes["x"], "reject")
        self.assertEqual(self.made(null=0).outcomes["x"], "withhold")

    def test_shares(self):
        below, inside, above = self.made((-1, 0.5)).shares("x")
        self.assertAlmostEqual(below, stats.norm.cdf(-1), delta=1e-3)
        self.assertAlmostEqual(above, stats.norm.sf(0.5), delta=1e-3)
        self.assertAlmostEqual(below + inside + above, 1)

    def test_over_levels_and_widths(self):
        made = self.made((-1.5, 1.5))
        self.assertEqual(
            list(made.by_level([0.5, 0.8, 0.95, 0.99]).loc["x"]),
            ["accept", "accept", "withhold", "withhold"],
        )
        widths = made.by_width([0.0, 0.5, 1.0, 2.0])
        self.assertEqual(list(widths.columns), ["0", "0.75", "1.5", "3"])
        self.assertEqual(list(widths.loc["x"]), ["withhold"] * 3 + ["accept"])

    def test_text_states_rule_interval_and_shares(self):
        text = str(self.made((-1, 1)))
        for words in ("95 % central interval", "WITHHOLD", "below:", "inside:", "above:"):
            self.assertIn(words, text)
        self.assertIn("never accepted", str(self.made(null=1)))

    def test_of_a_posterior_and_of_expressions(self):
        made = straight().decide("drying / noise", rope=(-0.5, 0.5))
        self.assertEqual(made.outcomes, {"drying / noise": "reject"})
        self.assertEqual(
            set(yeasts().decide("share", null=0).outcomes),
            {
                "share[brewer]",
                "share[wild]",
            },
        )

    def test_bad_input(self):
        for bad in (
            {},
            {"rope": (-1, 1), "null": 0},
            {"rope": (1, -1)},
            {"rope": 3},
            {"rope": ("a", 2)},
            {"null": float("nan")},
            {"rope": (0, 1), "level": 2},
            {"rope": (0, 1), "kind": "x"},
        ):
            with self.subTest(bad=bad), self.assertRaises(ArgumentError):
                straight().decide("drying", **bad)
        with self.assertRaises(ArgumentError):
            straight().decide("drying < 0", null=0)
        with self.assertRaises(UnknownLabelError):
            straight().decide("dryign", null=0)
        with self.assertRaises(ArgumentError):
            self.made(null=0).by_width()


class Readings(unittest.TestCase):
    def test_one_sided_and_two_sided_side_by_side(self):
        posterior, y = known_scale()
        exact = stats.norm(y.sum() / (40 + 0.25), (40 + 0.25) ** -0.5)
        middle = float(exact.ppf(0.96))
        found = posterior.probability(f"level < {middle!r}")
        self.assertLess(abs(found.value - 0.96), 4.5 * found.monte_carlo_error)
        self.assertAlmostEqual(found.two_sided, 1 - 2 * (1 - found.value))
        text = str(found)
        self.assertIn("One-sided reading", text)
        self.assertIn('"Different at 95 %": no', text)
        self.assertIsNone(posterior.probability("all(level < 3)").two_sided)
        self.assertIn("yes", str(posterior.probability("level < 10")))
        self.assertNotIn("100 %", str(posterior.probability("level < 10")))


class Contrasts(unittest.TestCase):
    def test_differences_of_draws(self):
        table = yeasts().contrasts("share")
        share = yeasts().draws.get("share")
        self.assertEqual(list(table.index), ["wild - brewer"])
        self.assertAlmostEqual(
            table.loc["wild - brewer", "mean"], float((share[..., 1] - share[..., 0]).mean())
        )
        other = yeasts().contrasts("share", against="wild")
        self.assertEqual(list(other.index), ["brewer - wild"])

    def test_bad_input(self):
        with self.assertRaisesRegex(ArgumentError, "no label sets"):
            straight().contrasts("drying")
        with self.assertRaisesRegex(ArgumentError, "Did you mean `wild`"):
            yeasts().contrasts("share", against="wold")


class Regions(unittest.TestCase):
    def test_one_hump_has_one_piece_at_the_hdi(self):
        x = stats.norm.ppf((np.arange(4000) + 0.5) / 4000)
        ((low, high),) = highest_density_region(x, 0.9)
        self.assertAlmostEqual(low, -1.645, delta=0.05)
        self.assertAlmostEqual(high, 1.645, delta=0.05)

    def test_two_humps_have_two_pieces_with_the_right_share(self):
        x = stats.norm.ppf((np.arange(2000) + 0.5) / 2000)
        both = np.r_[x - 5, x + 5]
        first, second = highest_density_region(both, 0.9)
        self.assertAlmostEqual(first[0], -5 - 1.645, delta=0.1)
        self.assertAlmostEqual(second[0], 5 - 1.645, delta=0.1)
        inside = sum(np.mean((both >= a) & (both <= b)) for a, b in (first, second))
        self.assertAlmostEqual(inside, 0.9, delta=0.02)

    def test_of_a_posterior(self):
        frame = straight().highest_density_region("drying", 0.5)
        self.assertEqual(len(frame), 1)
        self.assertAlmostEqual(frame["share inside"][0], 0.5, delta=0.05)
        with self.assertRaises(ArgumentError):
            straight().highest_density_region("drying", 5)
        self.assertEqual(highest_density_region(np.ones(50)), [(1.0, 1.0)])


class Tables(unittest.TestCase):
    def test_expressions_and_single_numbers(self):
        table = straight().table(["drying", "drying / noise"])
        self.assertEqual(list(table.index), ["drying", "drying / noise"])
        self.assertEqual(list(yeasts().table("share[wild]").index), ["share[wild]"])
        with self.assertRaises((ModelError, LanguageError)):
            straight().table("drying / nois")

    def test_both_intervals_and_order(self):
        text = straight().summary(kind="both")
        self.assertIn("95 % central interval", text)
        self.assertIn("95 % HDI", text)
        self.assertIn("hardly differ", text)
        skewed = {"s": np.random.default_rng(0).lognormal(0, 1, (4, 1000))}
        self.assertIn("differ by more than a tenth", written(make_table(skewed, kind="both")))
        means = straight().table(order="mean")["mean"]
        self.assertEqual(list(means), sorted(means, reverse=True))
        sizes = straight().table(order="effective draws")
        worst = sizes["effective draws"]
        self.assertEqual(list(worst), sorted(worst))
        for bad in ({"order": "x"}, {"kind": "x"}, {"form": "x"}):
            with self.subTest(bad=bad), self.assertRaises(ArgumentError):
                straight().summary(**bad)

    def test_forms_can_be_read_back(self):
        want = straight().table()
        csv = pd.read_csv(io.StringIO(straight().summary(form="csv")), index_col=0)
        np.testing.assert_allclose(csv.to_numpy(float), want.to_numpy(float))
        lines = straight().summary(form="markdown").split("\n")
        self.assertEqual(len({line.count("|") for line in lines[:6]}), 1)
        self.assertIn("after\\_six\\_hours", straight().summary(form="markdown"))
        latex = straight().summary(form="latex")
        self.assertIn("after\\_six\\_hours &", latex)
        self.assertIn("95 \\% central", latex)

    def test_names_are_never_markup(self):
        odd = {"a[<script>alert(1)</script>|x]": np.random.default_rng(0).normal(size=(2, 50))}
        table = make_table(odd)
        seen = []

        class Reader(HTMLParser):
            def handle_starttag(self, tag, attrs):
                seen.append(tag)

        Reader().feed(written(table, "html"))
        self.assertNotIn("script", seen)
        self.assertNotIn("<script>", written(table, "markdown"))
        self.assertIn("\\|", written(table, "markdown"))
        self.assertIn("<strong>Verdict: ", straight()._repr_html_())

    def test_long_tables_show_the_extremes(self):
        generator = np.random.default_rng(0)
        many = {f"effect[{at}]": generator.normal(at, 1, (2, 50)) for at in range(80)}
        names, cells = folded(make_table({"base": generator.normal(size=(2, 50)), **many}))
        self.assertEqual(len(names), 8)
        self.assertEqual(names[:2], ["base", "effect[0]"])
        self.assertEqual(names[4], "... 74 more of effect")
        self.assertEqual(names[-1], "effect[79]")
        self.assertIn(" to ", cells["mean"][4])
        self.assertEqual(len(written(make_table(many), "csv").split("\n")), 82)
        largest_first = folded(make_table(many, order="mean"))[0]
        self.assertEqual(largest_first, [f"effect[{at}]" for at in range(79, -1, -1)])


class Depth(unittest.TestCase):
    def test_convergence_table(self):
        table = straight().convergence_table()
        self.assertEqual(list(table.index), list(straight().table().index))
        self.assertEqual(table.isna().sum().sum(), 0)
        self.assertLess(table["first against last, standard errors"].max(), 5)

    def test_draws_needed(self):
        row = straight().draws_needed("drying", within=0.001, quantile=0.025).loc["drying"]
        self.assertEqual(row["draws a chain needed"] - 1000, row["still to come"])
        for bad in ({"within": 0}, {"within": "x"}, {"within": 1, "quantile": 2.0}):
            with self.subTest(bad=bad), self.assertRaises(ArgumentError):
                straight().draws_needed("drying", **bad)

    def test_warm_up_needed(self):
        needed = straight().sampling.warmup_needed()
        self.assertTrue((needed["needed"] < 300).all() and (needed["warm-up"] == 1000).all())
        model = mw.Model(priors={"x": "normal(0, 1)"}, likelihood={"y": "normal(x, 1)"})
        with self.assertRaisesRegex(ArgumentError, "Nothing is known"):
            model.normal_approximation({"y": [1.0]}).sampling.warmup_needed()


if __name__ == "__main__":
    unittest.main()
