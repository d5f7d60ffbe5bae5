"""What further rows are likely to bring, against closed forms."""

import unittest

import numpy as np
from scipy import stats

import millwright as mw
from millwright.errors import ArgumentError, DataError, ModelError
from tests.evidence.test_evidence import fit

Y = np.random.default_rng(3).normal(0.3, 1, 12)


def model(prior):
    return mw.Model(priors={"m": prior}, likelihood={"y": "normal(m, 1)"})


def log_factor(total, n):
    """Log Bayes factor of m ~ normal(0, 1) over m ~ normal(0, 0.1), given a sum of n readings."""
    logs = [-0.5 * np.log(1 + n * v) + 0.5 * total**2 * v / (1 + n * v) for v in (1.0, 0.01)]
    return logs[0] - logs[1]


class Expected(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.fits = {
            "free": fit(model("normal(0, 1)"), {"y": Y}),
            "near zero": fit(model("normal(0, 0.1)"), {"y": Y}),
        }
        cls.found = mw.expected_evidence(cls.fits, rows=30, replications=60, progress=False)

    def test_the_distribution_is_that_of_the_closed_form(self):
        self.assertAlmostEqual(self.found.now, log_factor(Y.sum(), 12), delta=0.02)
        generator = np.random.default_rng(0)
        for source, variance in (("free", 1.0), ("near zero", 0.01)):
            precision = 1 / variance + 12
            centre, sd = Y.sum() / precision, precision**-0.5
            means = generator.normal(centre, sd, 20_000)
            totals = Y.sum() + generator.normal(30 * means, np.sqrt(30))
            wanted = log_factor(totals, 42)
            # Two samples of one distribution.
            answer = stats.ks_2samp(self.found.log_factors[source], wanted)
            self.assertGreater(answer.pvalue, 0.001, source)
            share = self.found.shares(source)
            self.assertAlmostEqual(sum(share.values()), 1)
        table = self.found.table()
        self.assertEqual(list(table["data sets"]), [60, 60])
        self.assertIn("With 30 rows more", str(self.found))

    def test_figure(self):
        figure = mw.plots.expected_evidence(self.found)
        bars = figure.axes[0].containers
        heights = [sum(bar.get_height() for bar in one) for one in bars]
        np.testing.assert_allclose(heights, [1, -1])

    def test_bad_calls(self):
        one = dict(list(self.fits.items())[:1])
        text = fit(
            mw.Model(priors={"m": "normal(0, 1) per day"}, likelihood={"y": "normal(m[day], 1)"}),
            {"y": Y, "day": np.repeat(["a", "b"], 6)},
        )
        process = fit(
            mw.Model(
                priors={"s": "half_normal(1)"},
                likelihood={
                    "y": "gaussian_process(0, kernel=squared_exponential(x, scale=s, length=1), "
                    "noise=1)"
                },
            ),
            {"y": Y, "x": np.arange(12.0)},
        )
        calls = [
            (lambda: mw.expected_evidence({**one, "gp": process}), ModelError, "for themselves"),
            (lambda: mw.expected_evidence(one), ArgumentError, "two fits"),
            (lambda: mw.expected_evidence(self.fits, rows=0), ArgumentError, "rows"),
            (lambda: mw.expected_evidence(self.fits, threshold=1), ArgumentError, "threshold"),
            (lambda: self.found.shares("other"), ArgumentError, "free or near zero"),
            (lambda: mw.plots.expected_evidence(3), ArgumentError, "mw.expected_evidence"),
            (
                lambda: mw.expected_evidence({**one, "days": text}, data={"week": [1]}),
                DataError,
                "`day`",
            ),
        ]
        for call, kind, words in calls:
            with self.subTest(words=words), self.assertRaisesRegex(kind, words):
                call()
