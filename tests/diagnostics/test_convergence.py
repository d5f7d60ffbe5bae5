"""R-hat, effective draws and Monte Carlo errors: known answers, and chains known to be bad."""

import unittest

import numpy as np
from scipy import stats

from millwright.diagnostics.arrays import ranked_normal
from millwright.diagnostics.convergence import (
    bulk_size,
    mean_error,
    mean_size,
    quantile_error,
    quantile_size,
    scale_reduction,
    sd_error,
    tail_size,
)
from millwright.diagnostics.energy import energy_fraction


def autoregressive(phi, chains=4, draws=2000, seed=0):
    noise = np.random.default_rng(seed).standard_normal((chains, draws))
    x = np.empty_like(noise)
    x[:, 0] = noise[:, 0] / np.sqrt(1 - phi**2)
    for t in range(1, draws):
        x[:, t] = phi * x[:, t - 1] + noise[:, t]
    return x[..., None]


def slow_ess(x):
    """The definition, written out with loops for one quantity (chains, draws)."""
    half = x.shape[1] // 2
    x = np.concatenate([x[:, :half], x[:, -half:]])
    m, n = x.shape
    centred = x - x.mean(axis=1, keepdims=True)
    cov = np.array([[np.sum(c[: n - t] * c[t:]) / n for t in range(n)] for c in centred])
    within = np.mean(cov[:, 0]) * n / (n - 1)
    total = within * (n - 1) / n + np.var(x.mean(axis=1), ddof=1)
    rho = 1 - (within - cov.mean(axis=0) * n / (n - 1)) / total
    rho[0] = 1
    tau, last, t = -1.0, np.inf, 0
    while t + 1 <= n - 2 and rho[t] + rho[t + 1] > 0:
        last = min(last, rho[t] + rho[t + 1])
        tau += 2 * last
        t += 2
    if t + 1 <= n - 2:
        tau += max(rho[t], 0)
    return m * n / max(tau, 1 / np.log10(m * n))


class KnownAnswers(unittest.TestCase):
    def test_independent_draws(self):
        x = np.random.default_rng(1).standard_normal((4, 1000, 50))
        self.assertLess(scale_reduction(x).max(), 1.01)
        for ess in (bulk_size(x), tail_size(x), mean_size(x)):
            self.assertLess(abs(np.median(ess) / 4000 - 1), 0.1)
        np.testing.assert_allclose(mean_error(x), 1 / np.sqrt(4000), rtol=0.25)
        np.testing.assert_allclose(sd_error(x), 1 / np.sqrt(2 * 4000), rtol=0.3)
        want = np.sqrt(0.05 * 0.95 / 4000) / stats.norm.pdf(stats.norm.ppf(0.05))
        np.testing.assert_allclose(np.median(quantile_error(x, 0.05)), want, rtol=0.15)

    def test_autocorrelated_chains_have_the_analytic_size(self):
        for phi in (0.5, 0.9, -0.5):
            with self.subTest(phi=phi):
                sizes = [mean_size(autoregressive(phi, seed=s))[0] for s in range(12)]
                want = 8000 * (1 - phi) / (1 + phi)
                self.assertLess(abs(np.mean(sizes) / want - 1), 0.1)

    def test_agrees_with_the_definition_written_out(self):
        for phi in (0.0, 0.7, -0.6, 0.95):
            for draws in (100, 101):
                x = autoregressive(phi, chains=3, draws=draws, seed=4)
                with self.subTest(phi=phi, draws=draws):
                    np.testing.assert_allclose(mean_size(x)[0], slow_ess(x[..., 0]), rtol=1e-10)
                    z = ranked_normal(x.reshape(1, -1)).reshape(x.shape)[..., 0]
                    np.testing.assert_allclose(bulk_size(x)[0], slow_ess(z), rtol=1e-10)

    def test_r_hat_agrees_with_the_definition_written_out(self):
        x = autoregressive(0.5, draws=300)[..., 0] + np.arange(4)[:, None] / 4

        def plain(y):
            n = y.shape[1]
            b, w = n * y.mean(1).var(ddof=1), y.var(axis=1, ddof=1).mean()
            return np.sqrt(((n - 1) / n * w + b / n) / w)

        def scores(y):
            ranks = stats.rankdata(y).reshape(y.shape)
            return stats.norm.ppf((ranks - 0.375) / (y.size + 0.25))

        split = np.concatenate([x[:, :150], x[:, 150:]])
        want = max(plain(scores(split)), plain(scores(np.abs(split - np.median(split)))))
        np.testing.assert_allclose(scale_reduction(x[..., None])[0], want, rtol=1e-10)

    def test_ties_get_their_average_rank(self):
        x = np.random.default_rng(0).integers(0, 4, (2, 50)).astype(float)
        ranks = stats.rankdata(x).reshape(x.shape)
        want = stats.norm.ppf((ranks - 0.375) / 100.25)
        got = ranked_normal(x.reshape(1, -1)).reshape(x.shape)
        np.testing.assert_allclose(got, want, rtol=1e-12)


class KnownBad(unittest.TestCase):
    def setUp(self):
        self.x = np.random.default_rng(2).standard_normal((4, 500, 1))

    def test_shifted_chain(self):
        self.x[0] += 1
        self.assertGreater(scale_reduction(self.x)[0], 1.05)

    def test_chain_with_another_spread(self):
        self.x[0] *= 4
        self.assertGreater(scale_reduction(self.x)[0], 1.05)

    def test_drifting_chains(self):
        self.x += np.linspace(0, 2, 500)[:, None]
        self.assertGreater(scale_reduction(self.x)[0], 1.05)

    def test_stuck_chain(self):
        self.x[1] = self.x[1, 0]
        self.assertGreater(scale_reduction(self.x)[0], 1.05)

    def test_heavy_tail_has_fewer_effective_draws_in_the_tail(self):
        x = autoregressive(0.9)
        heavy = np.sign(x) * np.exp(np.abs(x))
        self.assertLess(quantile_size(heavy, 0.99)[0], 8000 / 3)


class Edges(unittest.TestCase):
    def test_constant_or_not_finite_gives_nan(self):
        x = np.random.default_rng(0).standard_normal((2, 20, 3))
        x[:, :, 1] = 3
        x[0, 0, 2] = np.inf
        for function in (scale_reduction, bulk_size, tail_size, mean_size):
            with self.subTest(function=function.__name__):
                result = function(x)
                self.assertTrue(np.isfinite(result[0]) and np.isnan(result[1:]).all())

    def test_few_draws_give_nan(self):
        x = np.random.default_rng(0).standard_normal((2, 3, 1))
        self.assertTrue(np.isnan(scale_reduction(x)[0]) and np.isnan(bulk_size(x)[0]))

    def test_one_chain_is_compared_with_itself(self):
        x = np.random.default_rng(0).standard_normal((1, 400, 1))
        self.assertLess(scale_reduction(x)[0], 1.02)

    def test_energy_fraction(self):
        noise = np.random.default_rng(0).standard_normal((2, 5000))
        np.testing.assert_allclose(energy_fraction(noise), 2.0, rtol=0.1)
        self.assertLess(energy_fraction(np.cumsum(noise, axis=1)).max(), 0.1)
        self.assertTrue(np.isnan(energy_fraction(np.ones((1, 1)))).all())
        far = energy_fraction(np.cumsum(noise, axis=1) * 2.0**900)
        np.testing.assert_array_equal(far, energy_fraction(np.cumsum(noise, axis=1)))


if __name__ == "__main__":
    unittest.main()
