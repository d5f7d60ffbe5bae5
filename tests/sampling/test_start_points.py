"""Where chains and searches start under priors that give nearly everywhere no density at all."""

import unittest

import numpy as np
import pandas as pd

import millwright as mw
from millwright.errors import StartError
from millwright.sampling.start_points import pulled_in


class PulledIn(unittest.TestCase):
    def test_points_come_nearer_to_the_middle_and_then_to_the_origin(self):
        draw = np.random.default_rng(1)
        candidates = np.array([50.0, -2.0]) + draw.normal(size=(100, 2))
        candidates[3, 1] = np.nan
        points = pulled_in(candidates)
        middle = np.nanmedian(candidates, axis=0)
        away = np.abs(points[:32] - middle).reshape(4, 8, 2)
        self.assertLess(np.nanmax(away[-1]), 1e-3)
        self.assertTrue((np.nanmax(away[:-1], axis=1) > np.nanmax(away[1:], axis=1)).all())
        np.testing.assert_allclose(points[32:].reshape(4, 8, 2)[0], 0.1 * candidates[:8])
        self.assertLess(np.nanmax(np.abs(points[-8:])), 0.01)


class WidePriors(unittest.TestCase):
    def setUp(self):
        draw = np.random.default_rng(4)
        self.load = draw.normal(2000, 300, 120)
        mean = np.exp(1 + 0.4 * (self.load - 2000) / 300)
        sacks = draw.poisson(mean * draw.gamma(2, 0.5, 120))
        self.data = pd.DataFrame({"load": self.load, "sacks": sacks})
        self.model = mw.Model(
            priors={"a": "normal(0, 100)", "b": "normal(0, 10)", "shape": "half_normal(10)"},
            likelihood={"sacks": "negative_binomial(mean=exp(a + b * load), shape=shape)"},
        )

    def test_a_column_in_thousands_with_a_slope_of_sd_ten(self):
        # The exponential overflows, or is nothing, for all but one slope in some hundreds.
        fitted = self.model.fit(self.data, seed=1, draws=500, progress=False)
        self.assertTrue(fitted.verdict.good, fitted.verdict)
        self.assertEqual(fitted.record.modes["peaks"], 1)
        slope = 300 * fitted.draws.get("b")
        exact = self.model.maximum_likelihood(self.data).values.loc["b", "estimate"]
        self.assertLess(abs(slope.mean() - 300 * exact), 0.3 * slope.std())

    def test_so_do_many_fits_side_by_side(self):
        data = self.data.assign(river=np.arange(len(self.data)) % 3)
        fitted = self.model.fit_each(
            data, by="river", seed=0, chains=2, warmup=200, draws=50, progress=False
        )
        self.assertNotIn("FAILED", str(fitted))

    def test_chains_that_never_moved_begin_again_around_the_peak(self):
        # From where a rate is next to nothing every trajectory flies over the peak.
        draw = np.random.default_rng(6)
        mean = np.exp(1 + 0.4 * (self.load - 2000) / 300)
        data = pd.DataFrame({"load": self.load, "weight": draw.gamma(3, mean / 3)})
        model = mw.Model(
            priors={"a": "normal(0, 100)", "b": "normal(0, 10)", "shape": "half_normal(10)"},
            likelihood={"weight": "gamma(shape=shape, rate=shape * exp(-(a + b * load)))"},
        )
        exact = model.maximum_likelihood(data).values.loc["b", "estimate"]
        for seed in range(4):
            fitted = model.fit(data, seed=seed, progress=False)
            slope = fitted.draws.get("b")
            with self.subTest(seed=seed):
                self.assertTrue(fitted.verdict.good, fitted.verdict)
                self.assertLess(abs(slope.mean() - exact), 0.3 * slope.std())

    def test_walks_and_modes_start_there_too(self):
        peak = self.model.mode(self.data).values.loc["b", "estimate"]
        walked = self.model.fit(
            self.data, seed=1, method="random_walk", draws=200, warmup=200, progress=False
        )
        self.assertLess(abs(walked.draws.get("b").mean() - peak), 1e-3)

    def test_where_there_is_no_density_at_all_it_is_said(self):
        model = mw.Model(
            priors={"a": "normal(0, 1)"},
            likelihood={"sacks": "poisson(rate=exp(a) + log(-1 - a * a))"},
        )
        with self.assertRaisesRegex(StartError, "nor nearer to its middle"):
            model.fit(self.data, seed=1, progress=False)


if __name__ == "__main__":
    unittest.main()


class CaughtAtAPeak(unittest.TestCase):
    """A line with a bump: beside its peak lie others of which nothing remains."""

    model = mw.Model(
        priors={
            "height": "uniform(low=0, high=40)",
            "middle": "uniform(low=0, high=10)",
            "width": "uniform(low=0.2, high=5)",
            "base": "normal(0, 3)",
        },
        likelihood={
            "power": "normal(height * exp(-0.5 * ((at - middle) / width) ** 2) + base, 0.1)"
        },
    )

    def fitted(self, seed):
        draw = np.random.default_rng(seed)
        at = np.sort(draw.uniform(0, 10, 12))
        power = 12 * np.exp(-0.5 * ((at - 4.6) / 1.3) ** 2) + 0.5 + 0.1 * draw.normal(size=12)
        return self.model.fit({"at": at, "power": power}, seed=seed, progress=False)

    def test_chains_come_to_the_peak_that_holds_everything(self):
        for seed in (14, 17):
            fitted = self.fitted(seed)
            found = fitted.record.modes
            with self.subTest(seed=seed):
                self.assertEqual(found["peaks"], 2)
                self.assertGreater(found["log_densities"][0] - found["log_densities"][1], 1000)
                self.assertTrue(fitted.verdict.good, fitted.verdict)
                middles = fitted.draws.get("middle").mean(axis=1)
                np.testing.assert_allclose(middles, 4.6, atol=0.1)
                self.assertEqual(len(found["scale"]), 4)
        longer = fitted.extend(20, progress=False)
        np.testing.assert_array_equal(
            longer.draws.get("width")[:, :-20], fitted.draws.get("width")
        )

    def test_peaks_that_may_both_hold_something_keep_their_chains(self):
        model = mw.Model(priors={"a": "normal(0, 3)"}, likelihood={"y": "normal(a * a, 0.1)"})
        fitted = model.fit({"y": [4.0]}, seed=1, progress=False)
        self.assertEqual(fitted.record.modes["peaks"], 2)
        self.assertNotIn("scale", fitted.record.modes)
        self.assertFalse(fitted.verdict.good)
