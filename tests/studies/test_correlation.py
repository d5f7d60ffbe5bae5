"""Studies of correlation against quadrature of the bivariate normal and the sampled model."""

import functools
import unittest

import numpy as np
import pandas as pd
from scipy import integrate, special, stats

import millwright as mw
from millwright.diagnostics.convergence import mean_error
from millwright.errors import ArgumentError, DataError
from millwright.studies.rho import RhoPosterior, RhoPrior, sample_correlation

DAYS = mw.demo.load("river_days").frame


@functools.cache
def level_and_power():
    return mw.studies.correlation(DAYS, "level", "power", rope=(-0.1, 0.1)).fit(seed=1)


def integrated_likelihood(rows, rho):
    """Likelihood of a correlation with centres and log spreads integrated out by quadrature."""
    n = len(rows)
    a, c, b = (
        np.sum((rows[:, i] - rows[:, i].mean()) * (rows[:, j] - rows[:, j].mean()))
        for i, j in ((0, 0), (0, 1), (1, 1))
    )

    def inside(log_u, log_v):
        u, v = np.exp(log_u) / np.sqrt(a), np.exp(log_v) / np.sqrt(b)
        square = (a * u**2 - 2 * rho * c * u * v + b * v**2) / (1 - rho**2)
        power = (n - 1) * (log_u + log_v - 0.5 * np.log(1 - rho**2))
        return np.exp(power - 0.5 * square + n)

    return integrate.dblquad(inside, -4, 4, -4, 4, epsabs=0, epsrel=1e-9)[0]


class Exact(unittest.TestCase):
    def test_likelihood_against_two_dimensional_quadrature(self):
        rows = DAYS[["level", "power"]].to_numpy()[:6]
        found = sample_correlation(*rows.T)
        none = integrated_likelihood(rows, 0.0)
        posterior = RhoPosterior(found, RhoPrior())
        for rho in (-0.6, 0.3, 0.9):
            exact = integrated_likelihood(rows, rho) / none
            ratio = 2 * posterior.density(np.array([rho]))[0] * np.exp(posterior.log_factor)
            self.assertAlmostEqual(ratio / exact, 1.0, places=6)

    def test_factors_and_quantiles_against_quadrature(self):
        for n, r, width in ((3, 0.7, 1.0), (20, -0.4, 0.5), (400, 0.1, 2.0)):
            found = type(sample_correlation(*np.eye(3)[:2]))(r, n, 1 - r, 1 + r)
            posterior = RhoPosterior(found, RhoPrior(width))

            def density(rho, n=n, r=r, width=width):
                series = special.hyp2f1(0.5, 0.5, n - 0.5, [(1 + rho * r) / 2, 0.5])
                return (
                    (1 - rho**2) ** ((n - 1) / 2)
                    * (1 - rho * r) ** (1.5 - n)
                    * (series[0] / series[1])
                    * stats.beta.pdf((1 + rho) / 2, 1 / width, 1 / width)
                    / 2
                )

            whole = integrate.quad(density, -1, 1, epsabs=0, limit=400, points=[r])[0]
            self.assertAlmostEqual(posterior.log_factor, np.log(whole), places=6)
            median = float(posterior.quantile(np.array([0.5]))[0])
            half = integrate.quad(density, -1, median, epsabs=0, limit=400)[0]
            self.assertAlmostEqual(half / whole, 0.5, places=5)
            self.assertAlmostEqual(posterior.below(median), 0.5, places=6)

    def test_sides_make_the_whole(self):
        table = level_and_power().factors_by_width([0.3, 1.0])
        halves = np.logaddexp(table["log BF, positive"], table["log BF, negative"]) - np.log(2)
        np.testing.assert_allclose(halves, table["log BF, correlation"], atol=1e-6)
        three = [one.log_value for one in level_and_power().factors]
        np.testing.assert_allclose(three, table.loc[1.0].iloc[:3].astype(float), atol=1e-6)

    def test_draws_are_those_of_the_visible_model(self):
        found = level_and_power()
        sampled = found.study.model.fit(found.study.data, seed=2, draws=2000, progress=False)
        for name in ("rho", "centre", "log_spread"):
            exact, other = found.posterior.draws.get(name), sampled.draws.get(name)
            for one in (np.asarray, np.square):
                a, b = (one(values).reshape(*values.shape[:2], -1) for values in (exact, other))
                error = np.hypot(mean_error(a), mean_error(b))
                apart = abs(a.mean(axis=(0, 1)) - b.mean(axis=(0, 1)))
                self.assertTrue((apart < 4.5 * error).all(), name)

    def test_table_answer_and_figure_agree_to_the_last_digit(self):
        found = level_and_power()
        row = found.table().loc["rho"]
        exact = found.rho()
        self.assertEqual(row["median"], float(exact.quantile(np.array([0.5]))[0]))
        shown = next(line for line in found.summary().split("\n") if line.startswith("rho"))
        median, ends = shown.split()[3], " to ".join(shown.split()[4:7:2])
        self.assertIn(
            f"the correlation is {median} (95 % central interval {ends})", found.answer[0]
        )
        words = [axes.get_xlabel() for axes in mw.plots.study(found).axes]
        self.assertIn(f"median {median}, 95 % central interval {ends}", words)

    def test_path_ends_with_all_rows(self):
        path = level_and_power().path()
        self.assertEqual(path.index[-1], len(DAYS))
        self.assertAlmostEqual(
            path["log BF, correlation"].iloc[-1], level_and_power().factors[0].log_value
        )


class Forms(unittest.TestCase):
    def test_ranks_do_not_see_the_scale(self):
        plain = mw.studies.correlation(DAYS, "rain", "level", form="ranks").fit(seed=1)
        logs = DAYS.assign(rain=np.log(DAYS["rain"]))
        other = mw.studies.correlation(logs, "rain", "level", form="ranks").fit(seed=1)
        self.assertEqual(plain.answer, other.answer)
        with self.assertRaisesRegex(ArgumentError, "Ranks change"):
            plain.path()

    def test_robust_form_is_moved_less_by_one_point(self):
        data = DAYS.assign(power=DAYS["power"].where(DAYS.index > 0, 60.0))
        normal = mw.studies.correlation(data, "level", "power").fit(seed=1)
        robust = mw.studies.correlation(data, "level", "power", form="robust").fit(
            seed=1, progress=False
        )
        before = level_and_power().posterior.draws.get("rho").mean()
        apart = [abs(one.posterior.draws.get("rho").mean() - before) for one in (normal, robust)]
        self.assertLess(apart[1], 0.6 * apart[0])
        with self.assertRaisesRegex(ArgumentError, "sampled"):
            robust.rho()

    def test_all_pairs(self):
        gappy = DAYS.assign(rain=DAYS["rain"].where(DAYS.index != 3))
        found = mw.studies.correlation(gappy, missing="pairs").fit(seed=1)
        self.assertEqual(list(found.pair_table()["rows"]), [29, 29, 30])
        self.assertAlmostEqual(
            found.matrix().loc["level", "power"],
            float(level_and_power().rho().quantile(np.array([0.5]))[0]),
        )
        with self.assertRaisesRegex(ArgumentError, "Name a pair"):
            found.factor()
        self.assertGreater(found.factor("positive", "power", "level").log_value, 3)

    def test_one_side_only(self):
        found = mw.studies.correlation(DAYS, "level", "power", direction="negative").fit(seed=1)
        self.assertLess(found.posterior.draws.get("rho").max(), 0.0)
        self.assertIn("negative ones only", found.answer[0])
        self.assertEqual([one.statement for one in found.factors], ["a negative correlation"])

    def test_data_that_must_be_refused(self):
        line = pd.DataFrame({"a": [1.0, 2, 3, 4], "b": [2.0, 4, 6, 8], "c": [5.0] * 4})
        for words, error, settings in (
            ("r is exactly 1", DataError, {"first": "a", "second": "b"}),
            ("All 4 values of `c`", DataError, {"first": "a", "second": "c"}),
            ("named twice", ArgumentError, {"columns": ["a", "a"]}),
            ("Give both", ArgumentError, {"first": "a"}),
            ("`form` must be", ArgumentError, {"form": "rank"}),
            ("`width` must be", ArgumentError, {"width": -1.0}),
            ("`direction` must be", ArgumentError, {"direction": "up"}),
        ):
            data = line if error is DataError else DAYS.set_axis(["a", "b", "c"], axis=1)
            with self.subTest(words), self.assertRaisesRegex(error, words):
                mw.studies.correlation(data, **settings)
        with self.assertRaisesRegex(DataError, "2 complete rows"):
            mw.studies.correlation(DAYS.iloc[:2], "rain", "level")


if __name__ == "__main__":
    unittest.main()
