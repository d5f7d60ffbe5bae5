"""Evidence after each row against closed forms."""

import unittest

import numpy as np
from scipy import stats
from scipy.special import betaln

import millwright as mw
from millwright.errors import ArgumentError, DataError, ModelError

RANDOM = np.random.default_rng(2)
Y = RANDOM.normal(0.5, 1, 30)
DATA = {"y": Y, "day": np.arange(30)[::-1], "week": np.repeat(["a", "b", "c"], 10)}
FREE = mw.Model(priors={"m": "normal(0, 1)"}, likelihood={"y": "normal(m, 1)"})
WIDE = mw.Model(priors={"m": "normal(0, 10)"}, likelihood={"y": "normal(m, 1)"})


def exact(y, sd):
    return stats.multivariate_normal(np.zeros(len(y)), np.eye(len(y)) + sd**2).logpdf(y)


class Path(unittest.TestCase):
    def test_every_step_is_exact(self):
        found = mw.evidence_path({"near": FREE, "wide": WIDE}, DATA)
        for name, sd in (("near", 1.0), ("wide", 10.0)):
            wanted = [exact(Y[: n + 1], sd) for n in range(30)]
            np.testing.assert_allclose(found.log_evidences[name], wanted, atol=2e-4)
        self.assertIn("After all 30 rows", str(found))
        self.assertIn("state in advance", str(found))
        line = mw.plots.evidence_path(found).axes[0].lines[0]
        np.testing.assert_allclose(line.get_ydata(), found.log_factors)

    def test_order_and_groups(self):
        back = mw.evidence_path({"near": FREE, "wide": WIDE}, DATA, order="day", first=5)
        self.assertEqual(back.steps[0], 4)
        self.assertAlmostEqual(back.log_evidences["near"][0], exact(Y[::-1][:5], 1.0), places=3)
        weeks = mw.evidence_path({"near": FREE, "wide": WIDE}, DATA, by="week")
        self.assertEqual(weeks.steps, ("a", "b", "c"))
        self.assertAlmostEqual(weeks.log_evidences["wide"][1], exact(Y[:20], 10.0), places=3)
        self.assertEqual(list(weeks.table()["rows"]), [10, 20, 30])

    def test_shares_and_two_unknowns(self):
        cracked = np.array([1.0, 0, 0, 1, 0, 0, 0, 1])
        share = mw.Model(
            priors={"p": "beta(alpha=2, beta=3)"}, likelihood={"c": "bernoulli(probability=p)"}
        )
        even = mw.Model(
            priors={"a": "normal(0, 1)", "b": "normal(0, 1)"},
            likelihood={"c": "bernoulli(log_odds=a + b)"},
        )
        found = mw.evidence_path({"share": share, "two": even}, {"c": cracked})
        ones = np.cumsum(cracked)
        wanted = betaln(2 + ones, 3 + np.arange(1, 9) - ones) - betaln(2, 3)
        np.testing.assert_allclose(found.log_evidences["share"], wanted, atol=2e-4)

    def test_a_first_step_of_many_rows_under_a_wide_prior(self):
        y = RANDOM.normal(500, 0.5, 40)
        models = {
            name: mw.Model(
                priors={"m": prior, "s": "half_normal(5)"}, likelihood={"y": "normal(m, s)"}
            )
            for name, prior in (("wide", "normal(0, 1000)"), ("near", "normal(500, 1)"))
        }
        found = mw.evidence_path(models, {"y": y}, first=39)
        last = models["wide"].fit({"y": y}, seed=1, draws=500, progress=False).evidence()
        self.assertAlmostEqual(found.log_evidences["wide"][-1], last.log_value, places=3)
        self.assertFalse(np.isnan(found.log_factors).any())

    def test_many_unknowns_by_sequential_monte_carlo(self):
        groups = mw.Model(
            priors={"m": "normal(0, 1) per week", "s": "normal(0, 1) per week"},
            likelihood={"y": "normal(m[week] + s[week], 1)"},
        )
        found = mw.evidence_path(
            {"groups": groups, "near": FREE}, DATA, quantities=["m"], first=5, seed=3
        )
        for at, rows in enumerate(found.rows):
            y, week = Y[:rows], DATA["week"][:rows]
            covariance = np.eye(rows) + 2.0 * (week[:, None] == week)
            exact_value = stats.multivariate_normal(np.zeros(rows), covariance).logpdf(y)
            error = found.standard_errors["groups"][at]
            self.assertLess(abs(found.log_evidences["groups"][at] - exact_value), 4 * error)
            self.assertLess(error, 0.2)
        self.assertIn("sequential Monte Carlo", str(found))
        # The precision of the near model's mean after n rows is n + 1.
        path = found.estimate("near", "m")
        np.testing.assert_allclose(path["sd"], (found.rows + 1.0) ** -0.5, rtol=0.08)
        means = np.cumsum(Y)[found.rows - 1] / (found.rows + 1)
        np.testing.assert_allclose(path["mean"], means, atol=0.03)
        self.assertEqual(list(found.estimates["groups"]), ["m[a]", "m[b]", "m[c]"])
        self.assertGreater(len(mw.plots.evidence_path(found).axes[0].collections), 0)

    def test_a_point_within_a_model(self):
        found = mw.evidence_path({"near": FREE}, DATA, null={"m": 0})
        self.assertEqual(found.models, ("near", "near with m = 0"))
        null = stats.norm.logpdf(Y).cumsum()
        np.testing.assert_allclose(found.log_evidences["near with m = 0"], null, atol=1e-6)

    def test_bad_calls(self):
        two = {"near": FREE, "wide": WIDE}
        flat = mw.Model(priors={"m": "flat()"}, likelihood={"y": "normal(m, 1)"})
        weeks = mw.Model(priors={"m": "normal(0, 1)"}, likelihood={"day": "normal(m, 1)"})
        gaps = {"y": Y[:2], "day": [1.0, np.nan]}
        scale = mw.Model(priors={"s": "half_normal(1)"}, likelihood={"y": "normal(0, s)"})
        calls = [
            (
                lambda: mw.evidence_path({"a": scale}, DATA, null={"s": 0}),
                ArgumentError,
                "its end",
            ),
            (lambda: mw.evidence_path({"a": FREE}, DATA), ArgumentError, "two models"),
            (lambda: mw.evidence_path({"a": FREE, "b": 3}, DATA), ArgumentError, "a model"),
            (lambda: mw.evidence_path(two, DATA, order="week"), ArgumentError, "ties"),
            (lambda: mw.evidence_path(two, DATA, order="da"), DataError, "`day`"),
            (lambda: mw.evidence_path(two, gaps, order="day"), DataError, "gaps"),
            (lambda: mw.evidence_path(two, {"y": []}), DataError, "no rows"),
            (lambda: mw.evidence_path({"a": flat, "b": FREE}, DATA), ModelError, "improper"),
            (
                lambda: mw.evidence_path({"a": FREE}, DATA, null={"n": 0}),
                ArgumentError,
                "Unknowns: m",
            ),
            (
                lambda: mw.evidence_path({"a": FREE}, DATA, null={"m": "0"}),
                ArgumentError,
                "number",
            ),
            (lambda: mw.evidence_path(two, DATA, quantities=["n"]), ArgumentError, "quantity `n`"),
            (lambda: mw.evidence_path(two, DATA, null={"m": 0}), ArgumentError, "one with"),
            (lambda: mw.evidence_path({"a": FREE, "b": weeks}, DATA), ArgumentError, "outcomes"),
            (lambda: mw.plots.evidence_path(3), ArgumentError, "mw.evidence_path"),
        ]
        for call, kind, words in calls:
            with self.subTest(words=words), self.assertRaisesRegex(kind, words):
                call()
