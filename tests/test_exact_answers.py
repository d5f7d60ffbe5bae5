"""Whole fits against posteriors that are known exactly or by quadrature."""

import unittest

import numpy as np
from scipy import stats

import millwright as mw
from millwright.diagnostics.convergence import mean_error, quantile_error, sd_error
from tests.fits import assert_mean_near, known_scale, straight

QUANTILES = (0.05, 0.5, 0.95)


class Exact(unittest.TestCase):
    def assert_distribution(self, posterior, name, mean, sd, quantiles):
        """Compare mean, sd and the 5, 50, 95 % quantiles within 4.5 standard errors."""
        x = posterior.draws.get(name)[..., None]
        flat = x.ravel()
        self.assertLess(abs(flat.mean() - mean), 4.5 * mean_error(x)[0])
        self.assertLess(abs(flat.std() - sd), 4.5 * sd_error(x)[0])
        for probability, value in zip(QUANTILES, quantiles, strict=True):
            error = quantile_error(x, probability)[0]
            self.assertLess(abs(np.quantile(flat, probability) - value), 4.5 * error)

    def assert_follows(self, posterior, name, exact):
        self.assert_distribution(posterior, name, exact.mean(), exact.std(), exact.ppf(QUANTILES))

    def fit(self, priors, likelihood, data, seed):
        labels = {"source": ["old", "new"]}
        model = mw.Model(priors=priors, likelihood=likelihood, labels=labels)
        return model.fit(data, seed=seed, draws=2000, progress=False)

    def test_normal_mean_with_known_scale(self):
        posterior, y = known_scale()
        precision = 1 / 4 + len(y)
        self.assert_follows(posterior, "level", stats.norm(y.sum() / precision, precision**-0.5))
        self.assertTrue(posterior.verdict.good)

    def test_beta_binomial(self):
        posterior = self.fit(
            {"share": "beta(alpha=2, beta=3)"},
            {"torn": "binomial(trials=sacks, probability=share)"},
            {"sacks": [10, 12, 20], "torn": [1, 0, 4]},
            seed=2,
        )
        self.assert_follows(posterior, "share", stats.beta(7, 40))

    def test_mixture_over_labels_and_membership(self):
        """One row, two known components: shares and membership follow from Bayes' rule."""
        posterior = self.fit(
            {"w": "dirichlet(concentration=[2, 3]) per source"},
            {"y": "mixture(normal([-1, 1], 1), weights=w)"},
            {"y": [0.7]},
            seed=9,
        )
        density = stats.norm([-1, 1], 1).pdf(0.7) * [2, 3]
        first = density[0] / density.sum()
        mean = (first * 3 + (1 - first) * 2) / 6
        assert_mean_near(self, posterior["w"].values.reshape(4, -1, 2)[:, :, 0], mean)
        self.assertAlmostEqual(float(posterior.membership().iloc[0, 0]), first, delta=0.02)

    def test_gamma_poisson(self):
        posterior = self.fit(
            {"rate": "gamma(shape=3, rate=2)"},
            {"boats": "poisson(rate=rate)"},
            {"boats": [0, 2, 1, 4, 0]},
            seed=3,
        )
        self.assert_follows(posterior, "rate", stats.gamma(10, scale=1 / 7))

    def test_gamma_exponential(self):
        posterior = self.fit(
            {"rate": "gamma(shape=2, rate=1)"},
            {"wait": "exponential(rate=rate)"},
            {"wait": [0.5, 1.5, 0.2]},
            seed=4,
        )
        self.assert_follows(posterior, "rate", stats.gamma(5, scale=1 / 3.2))

    def test_waiting_times_with_a_rate_on_the_log_scale(self):
        wait = np.array([0.5, 1.5, 0.2])
        grid = np.linspace(-6, 6, 20_001)
        for seed, (text, shape) in enumerate(
            (("exponential(rate=exp(level))", 1), ("gamma(shape=2, rate=exp(level))", 2))
        ):
            posterior = self.fit(
                {"level": "normal(0, 1)"}, {"wait": text}, {"wait": wait}, seed=40 + seed
            )
            log_p = -(grid**2) / 2 + shape * len(wait) * grid - np.exp(grid) * wait.sum()
            self.assert_grid(posterior, "level", grid, log_p)

    def test_truncated_prior_is_normalised(self):
        posterior = self.fit(
            {"level": "normal(0, 1, low=0.5, high=2)"}, {"y": "normal(0, 1)"}, {"y": [0.0]}, seed=5
        )
        self.assert_follows(posterior, "level", stats.truncnorm(0.5, 2))

    def test_truncation_with_an_unknown_scale_by_quadrature(self):
        y = np.array([0.4, 1.1, 0.2, 2.0, 0.7, 0.1])
        posterior = self.fit(
            {"scale": "exponential(rate=1)"}, {"y": "normal(0, scale, low=0)"}, {"y": y}, seed=6
        )
        grid = np.linspace(1e-3, 15, 60_001)
        log_p = -grid + stats.halfnorm.logpdf(y[:, None] / grid).sum(0) - len(y) * np.log(grid)
        self.assert_grid(posterior, "scale", grid, log_p)

    def assert_grid(self, posterior, name, grid, log_p):
        p = np.exp(log_p - log_p.max())
        p /= p.sum()
        mean = (p * grid).sum()
        sd = np.sqrt((p * (grid - mean) ** 2).sum())
        quantiles = np.interp(QUANTILES, np.cumsum(p), grid)
        self.assert_distribution(posterior, name, mean, sd, quantiles)

    def test_straight_line_by_quadrature(self):
        posterior = straight()
        data = mw.demo.load("drying_loft").frame
        x = np.column_stack([np.ones(len(data)), data["hours"]])
        y = data["moisture"].to_numpy()
        prior_mean, prior_precision = np.array([18.0, 0.0]), np.diag([1 / 9, 1.0])
        noise = np.linspace(0.12, 1.5, 1500)
        log_p, means, variances = np.empty(1500), np.empty((1500, 2)), np.empty((1500, 2))
        for at, sigma in enumerate(noise):
            cover = sigma**2 * np.eye(len(y)) + x @ np.linalg.inv(prior_precision) @ x.T
            log_p[at] = -sigma + stats.multivariate_normal.logpdf(y, x @ prior_mean, cover)
            covariance = np.linalg.inv(prior_precision + x.T @ x / sigma**2)
            means[at] = covariance @ (prior_precision @ prior_mean + x.T @ y / sigma**2)
            variances[at] = np.diag(covariance)
        self.assert_grid(posterior, "noise", noise, log_p)
        p = np.exp(log_p - log_p.max())
        p /= p.sum()
        for which, name in enumerate(("start", "drying")):
            mean = (p * means[:, which]).sum()
            second = (p * (variances[:, which] + means[:, which] ** 2)).sum()
            spread = np.linspace(-6, 6, 1501) * np.sqrt(second - mean**2) + mean
            cdf = (
                stats.norm.cdf((spread[:, None] - means[:, which]) / np.sqrt(variances[:, which]))
                @ p
            )
            quantiles = np.interp(QUANTILES, cdf, spread)
            self.assert_distribution(posterior, name, mean, np.sqrt(second - mean**2), quantiles)


class PointEstimates(unittest.TestCase):
    def setUp(self):
        self.frame = mw.demo.load("drying_loft").frame
        self.model = mw.Model.read(mw.demo.sheet_path("drying.toml"))

    def test_maximum_likelihood_is_least_squares(self):
        estimate = self.model.maximum_likelihood(self.frame)
        x = np.column_stack([np.ones(len(self.frame)), self.frame["hours"]])
        y = self.frame["moisture"].to_numpy()
        best, squares = np.linalg.lstsq(x, y)[:2]
        self.assertAlmostEqual(estimate["start"], best[0], places=6)
        self.assertAlmostEqual(estimate["drying"], best[1], places=6)
        noise2 = squares[0] / len(y)
        self.assertAlmostEqual(estimate["noise"], np.sqrt(noise2), places=6)
        errors = np.sqrt(np.diag(np.linalg.inv(x.T @ x)) * noise2)
        found = estimate.values.loc[["start", "drying"], "standard error"]
        np.testing.assert_allclose(found, errors, rtol=1e-5)

    def test_mode_of_a_conjugate_posterior(self):
        model = mw.Model(
            priors={"share": "beta(alpha=2, beta=3)"},
            likelihood={"torn": "binomial(trials=sacks, probability=share)"},
        )
        mode = model.mode({"sacks": [42], "torn": [5]})
        self.assertAlmostEqual(mode["share"], 6 / 45, places=7)

    def test_mode_at_the_end_of_a_support_has_no_standard_error(self):
        model = mw.Model(
            priors={"rate": "exponential(rate=1)", "level": "normal(0, 1)"},
            likelihood={"n": "poisson(rate=rate)"},
        )
        mode = model.mode({"n": [0, 0]})
        self.assertLess(mode["rate"], 1e-8)
        self.assertTrue(np.isnan(mode.values.loc["rate", "standard error"]))
        self.assertAlmostEqual(mode.values.loc["level", "standard error"], 1.0, places=6)
        self.assertIn("at an end of its support", str(mode))

    def test_maximum_likelihood_refuses_hierarchies_with_the_reason(self):
        model = mw.Model(
            priors={"spread": "half_normal(1)", "effect": "normal(0, spread) per stone"},
            likelihood={"y": "normal(effect[stone], 1)"},
        )
        with self.assertRaisesRegex(mw.errors.ModelError, "prior of `effect` rests on other"):
            model.maximum_likelihood({"stone": ["a", "b"], "y": [1.0, 2.0]})


if __name__ == "__main__":
    unittest.main()
