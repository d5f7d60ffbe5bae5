"""Averages of models against exact mixtures; weights against direct search."""

import unittest

import numpy as np
from scipy import stats

import millwright as mw
from millwright.comparison.weights import bootstrap_weights, stacking_weights
from millwright.errors import ArgumentError
from tests.evidence.test_evidence import fit

RANDOM = np.random.default_rng(5)
X = np.linspace(0, 1, 15)
Y = 0.4 + 0.8 * X + RANDOM.normal(0, 0.5, 15)
LINE = mw.Model(
    priors={"a": "normal(0, 1)", "b": "normal(0, 1)"}, likelihood={"y": "normal(a + b * x, 0.5)"}
)
FLAT = mw.Model(priors={"a": "normal(0, 1)"}, likelihood={"y": "normal(a, 0.5)"})


def exact(columns):
    """Return log evidence, posterior mean and covariance of a line with prior sds of 1."""
    precision = columns.T @ columns / 0.25 + np.eye(columns.shape[1])
    covariance = np.linalg.inv(precision)
    data = 0.25 * np.eye(len(Y)) + columns @ columns.T
    log = stats.multivariate_normal(np.zeros(len(Y)), data).logpdf(Y)
    return log, covariance @ columns.T @ Y / 0.25, covariance


class Average(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        data = {"x": X, "y": Y}
        cls.line, cls.flat = fit(LINE, data, draws=1000), fit(FLAT, data, draws=1000)
        cls.found = mw.average({"line": cls.line, "flat": cls.flat}, zero=["b"])

    def test_weights_and_moments_are_those_of_the_mixture(self):
        ones = np.ones((15, 1))
        log_line, mean_line, cov_line = exact(np.column_stack([ones, X]))
        log_flat, mean_flat, _ = exact(ones)
        share = 1 / (1 + np.exp(log_flat - log_line))
        self.assertAlmostEqual(self.found.weights["line"], share, places=6)
        mean = share * mean_line[1]
        second = share * (cov_line[1, 1] + mean_line[1] ** 2)
        draws = self.found.draws["b"]
        error = np.sqrt((second - mean**2) / 1000)
        self.assertLess(abs(draws.mean() - mean), 4 * error)
        self.assertLess(abs((draws == 0).mean() - (1 - share)), 1e-3)
        a = share * mean_line[0] + (1 - share) * mean_flat[0]
        self.assertLess(abs(self.found.table()["mean"]["a"] - a), 0.03)
        asked = self.found.probability("a > 0.5")
        both = [one.probability("a > 0.5").value for one in (self.line, self.flat)]
        self.assertAlmostEqual(asked.value, share * both[0] + (1 - share) * both[1], places=6)

    def test_predictions_are_those_of_the_mixture(self):
        new = {"x": np.array([0.0, 2.0])}
        found = self.found.predict(new)
        moments = []
        for columns in (np.column_stack([np.ones(15), X]), np.ones((15, 1))):
            _, mean, covariance = exact(columns)
            at = np.column_stack([np.ones(2), new["x"]])[:, : len(mean)]
            sd = np.sqrt(0.25 + np.einsum("ij,jk,ik->i", at, covariance, at))
            moments.append((at @ mean, sd))
        shares = np.array(list(self.found.weights.values()))
        mean = sum(w * m for w, (m, _) in zip(shares, moments, strict=True))
        np.testing.assert_allclose(found.expected["y"], mean, atol=0.03)
        np.testing.assert_allclose(found.draws["y"].mean(axis=0), mean, atol=0.06)
        truth = np.array([0.5, 2.5])
        densities = [stats.norm.pdf(truth, m, sd) for m, sd in moments]
        score = found.score({"y": truth}).frame["log score"]
        self.assertAlmostEqual(
            score["average", "y"], np.log(shares @ densities).mean(), delta=0.03
        )
        self.assertAlmostEqual(score["flat", "y"], np.log(densities[1]).mean(), delta=0.03)
        self.assertEqual(len(found.table()), 2)

    def test_inclusion(self):
        row = self.found.inclusion().loc["b"]
        self.assertAlmostEqual(row["posterior probability"], self.found.weights["line"])
        factor = mw.bayes_factors(line=self.line, flat=self.flat).log_factor("line", "flat")[0]
        self.assertAlmostEqual(row["log Bayes factor"], factor, places=6)
        self.assertIn("`b` belongs in the model", str(self.found))

    def test_without_zero_only_shared_quantities_are_averaged(self):
        found = mw.average({"line": self.line, "flat": self.flat}, weights="stacking")
        self.assertEqual(list(found.draws), ["a"])
        by_row = np.column_stack(
            [one.leave_one_out().elpd_by_row for one in (self.line, self.flat)]
        )
        grid = np.linspace(0, 1, 2001)
        scores = np.log(np.exp(by_row) @ np.stack([grid, 1 - grid])).sum(axis=0)
        self.assertAlmostEqual(found.weights["line"], grid[np.argmax(scores)], delta=1e-3)
        elpd = mw.average({"line": self.line, "flat": self.flat}, weights="elpd")
        self.assertAlmostEqual(sum(elpd.weights.values()), 1.0)

    def test_stacking_of_three_models(self):
        by_row = RANDOM.normal(-1, 0.6, (40, 3))
        found = stacking_weights(by_row)
        best = np.log(np.exp(by_row) @ found).sum()
        for other in RANDOM.dirichlet(np.ones(3), 3000):
            self.assertLessEqual(np.log(np.exp(by_row) @ other).sum(), best + 1e-6)
        alike = bootstrap_weights(np.zeros((10, 2)), RANDOM)
        np.testing.assert_allclose(alike, 0.5)

    def test_figures(self):
        figure = mw.plots.average(self.found)
        self.assertEqual(len(figure.axes), 2)
        self.assertIn("0 with probability", figure.axes[1].get_title(loc="left"))
        weighed = mw.bayes_factors(line=self.line, flat=self.flat)
        bars = mw.plots.model_probabilities(weighed).axes[0].patches
        widths = sorted(bar.get_width() for bar in bars)
        expected = sorted([*weighed.posterior.values(), 0.5, 0.5])
        np.testing.assert_allclose(widths, expected)

    def test_bad_calls(self):
        two = {"line": self.line, "flat": self.flat}
        other = fit(FLAT, {"y": Y + 1})
        calls = {
            lambda: mw.average({"line": self.line}): "two or more",
            lambda: mw.average([self.line, self.flat]): "by name",
            lambda: mw.average({"a": self.flat, "b": other}): "different outcomes",
            lambda: mw.average(two, weights="waic"): "must be 'evidence'",
            lambda: mw.average(two, weights={"line": 0.5, "flat": 0.4}): "sum to 1",
            lambda: mw.average(two, weights="elpd", prior={"line": 1.0}): "goes with",
            lambda: mw.average(two, zero=["c"]): "no model has",
            lambda: mw.average(two, draws=3): "draws",
            lambda: mw.average(two, weights={"line": 0.5, "flat": 0.5}).inclusion(): "posterior",
            lambda: mw.plots.average(3): "mw.average",
            lambda: mw.plots.model_probabilities(3): "mw.bayes_factors",
        }
        for call, words in calls.items():
            with self.subTest(words=words), self.assertRaisesRegex(ArgumentError, words):
                call()
