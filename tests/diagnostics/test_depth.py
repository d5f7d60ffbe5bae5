"""Autocorrelation, first against last, warm-up, precision, tails: exact and known answers."""

import unittest

import numpy as np
from scipy import stats

from millwright.diagnostics.arrays import by_blocks
from millwright.diagnostics.autocorrelation import autocorrelations, integrated_time
from millwright.diagnostics.convergence import (
    mean_error,
    mean_size,
    quantile_error,
    quantile_size,
    scale_reduction,
    sd_error,
)
from millwright.diagnostics.measures import measure
from millwright.diagnostics.pareto import heavier_tail
from millwright.diagnostics.precision import draws_needed
from millwright.diagnostics.stationarity import first_against_last, settled_after
from millwright.draws.intervals import interval
from tests.diagnostics.test_convergence import autoregressive, slow_ess


class WrittenOut(unittest.TestCase):
    """Independent computations from the definitions, to ten digits."""

    def setUp(self):
        self.x = autoregressive(0.6, chains=4, draws=400, seed=11)

    def test_errors_of_mean_and_sd(self):
        x = self.x[..., 0]
        want = x.std(ddof=1) / np.sqrt(slow_ess(x))
        np.testing.assert_allclose(mean_error(self.x)[0], want, rtol=1e-10)
        squared = (x - x.mean()) ** 2
        ess = slow_ess(squared)
        want = np.sqrt((np.mean(squared**2) - x.var() ** 2) / ess / x.var() / 4)
        np.testing.assert_allclose(sd_error(self.x)[0], want, rtol=1e-10)

    def test_quantiles(self):
        x = self.x[..., 0]
        for p in (0.05, 0.3, 0.975):
            below = (x <= np.quantile(x, p)).astype(float)
            ess = slow_ess(below)
            np.testing.assert_allclose(quantile_size(self.x, p)[0], ess, rtol=1e-10)
            a, b = stats.beta.ppf([0.1586553, 0.8413447], ess * p + 1, ess * (1 - p) + 1)
            ordered = np.sort(x.ravel())
            low = ordered[int(max(np.floor(a * x.size) - 1, 0))]
            high = ordered[int(min(np.ceil(b * x.size) - 1, x.size - 1))]
            np.testing.assert_allclose(quantile_error(self.x, p)[0], (high - low) / 2, rtol=1e-10)

    def test_intervals(self):
        x = np.random.default_rng(0).gamma(2, size=2001)
        np.testing.assert_allclose(
            interval(x, 0.9), stats.mstats.mquantiles(x, [0.05, 0.95], 1, 1), rtol=1e-10
        )
        ordered, inside = np.sort(x), int(np.ceil(0.9 * 2001))
        widths = [ordered[at + inside] - ordered[at] for at in range(2001 - inside)]
        best = int(np.argmin(widths))
        np.testing.assert_allclose(
            interval(x, 0.9, "hdi"), (ordered[best], ordered[best + inside]), rtol=1e-10
        )

    def test_autocorrelations_of_one_chain(self):
        x = self.x[:1, :, 0]
        centred = x[0] - x.mean()
        want = [centred[: 400 - k] @ centred[k:] / (centred @ centred) for k in range(6)]
        # Covariances are taken over draws - 1, the total variance over draws.
        got = autocorrelations(x, 5)
        np.testing.assert_allclose(1 - (1 - got) * 399 / 400, want, rtol=1e-10)

    def test_many_quantities_in_blocks_are_as_one(self):
        x = np.random.default_rng(3).standard_normal((4, 1000, 150))
        whole = measure({str(at): x[:, :, at] for at in range(150)})
        for at in (0, 77, 149):
            np.testing.assert_allclose(
                whole.scale_reduction[at], scale_reduction(x[:, :, at : at + 1])[0], rtol=1e-12
            )
            alone = measure({"a": x[:, :, at]})
            np.testing.assert_allclose(whole.tail_size[at], alone.tail_size[0], rtol=1e-12)
        sizes = by_blocks(x, lambda block: len(block.x))
        self.assertEqual(sum(sizes), 150)
        self.assertGreater(len(sizes), 1)


class KnownAnswers(unittest.TestCase):
    def test_integrated_time_of_an_autoregression(self):
        for phi in (0.5, 0.9, -0.5):
            times = [integrated_time(autoregressive(phi, seed=s))[0] for s in range(12)]
            self.assertLess(abs(np.mean(times) / ((1 + phi) / (1 - phi)) - 1), 0.1, phi)

    def test_first_against_last_is_standard_normal_for_settled_chains(self):
        x = np.concatenate([autoregressive(0.5, 4, 2000, seed) for seed in range(40)])
        z = first_against_last(x)[:, 0]
        self.assertGreater(stats.kstest(z, "norm").pvalue, 0.001)
        late = x[:4].copy()
        late[:, :300] += 3
        self.assertGreater(np.abs(first_against_last(late)).min(), 5)
        self.assertTrue(np.isnan(first_against_last(x[:, :30])).all())

    def test_warm_up_needed(self):
        generator = np.random.default_rng(1)
        kept = generator.standard_normal((2, 1000))
        warm = generator.standard_normal((2, 500))
        warm[1, :200] -= 30
        needed = settled_after(warm, kept)
        self.assertLess(needed[0], 50)
        self.assertTrue(190 <= needed[1] <= 215, needed)

    def test_draws_needed_shrink_the_error_as_said(self):
        x = np.random.default_rng(2).standard_normal((4, 500, 1))
        error, needed = draws_needed(x, 0.01, 0.025)
        self.assertAlmostEqual(float(needed[0]), 500 * (float(error[0]) / 0.01) ** 2, delta=1)
        # Exact: sd of the 2.5 % quantile of n independent normal draws.
        exact = np.sqrt(0.025 * 0.975 / 2000) / stats.norm.pdf(stats.norm.ppf(0.025))
        self.assertLess(abs(error[0] / exact - 1), 0.35)

    def test_tails(self):
        generator = np.random.default_rng(3)
        # A fifth of the draws reaches into the body, which pulls the smaller ones down.
        for df, k in ((1, 1.0), (2, 0.44), (5, 0.11)):
            found = [heavier_tail(np.sort(generator.standard_t(df, 4000)))[0] for _ in range(20)]
            self.assertLess(abs(np.mean(found) - k), 0.05, df)
        self.assertEqual(heavier_tail(np.arange(50.0)), (0.0, 0.0))

    def test_a_gap_between_modes_is_no_heavy_tail(self):
        generator = np.random.default_rng(5)
        for share in (0.15, 0.1, 0.06, 0.03, 0.01):
            far = generator.random(4000) < share
            x = np.where(far, generator.normal(6, 1, 4000), generator.normal(-6, 0.5, 4000))
            with self.subTest(share=share):
                k, error = heavier_tail(np.sort(x))
                self.assertLess(k - 2 * error, 0.35)
        cauchy = [heavier_tail(np.sort(generator.standard_cauchy(4000)))[0] for _ in range(50)]
        self.assertGreater(min(cauchy), 0.75)

    def test_effective_sizes_of_slow_chains_use_all_lags(self):
        x = autoregressive(0.98, draws=5000, seed=2)
        np.testing.assert_allclose(mean_size(x)[0], slow_ess(x[..., 0]), rtol=1e-10)


if __name__ == "__main__":
    unittest.main()
