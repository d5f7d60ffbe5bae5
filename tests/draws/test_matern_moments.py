"""Rough processes gone through in order, against the dense normal distributions that they are."""

import unittest

import jax
import numpy as np
from scipy import stats

import millwright as mw
from millwright.accuracy.pointwise import log_likelihood_of
from millwright.distributions.matern import MATERN
from millwright.draws.matern_moments import NoisyReadings, left_out, sampled, smoothed
from millwright.errors import ModelError
from millwright.fitting.target import target_of
from millwright.studies.smooth_process import covariance

ROWS, DRAWS = 12, 3
MAKE = np.random.default_rng(5)
X = MAKE.uniform(0, 4, ROWS)
X[3] = X[1]
PLACES = np.append(MAKE.uniform(-1, 5, 5), [X[1], X[0]])


def given(kernel, draws=DRAWS):
    make = np.random.default_rng(6)
    return NoisyReadings(
        kernel=kernel,
        x=X,
        left=np.broadcast_to(make.normal(size=ROWS), (draws, ROWS)),
        noise=np.broadcast_to(make.uniform(0.1, 0.4, ROWS), (draws, ROWS)),
        height=np.resize([0.5, 1.3, 2.0], draws),
        length=np.resize([0.3, 1.0, 4.0], draws),
    )


def dense(one, along=None):
    """Mean and covariance at the places, and the covariance of the readings."""
    size, lengths = one.height[:, None, None] ** 2, one.length[:, None]
    own = size * covariance(one.kernel, X, X, lengths)
    own = own + one.noise[:, :, None] ** 2 * np.eye(ROWS)
    tie = size * covariance(one.kernel, PLACES, X, lengths, along)
    among = size * covariance(one.kernel, PLACES, PLACES, lengths, along, both=True)
    gain = np.linalg.solve(own, tie.swapaxes(1, 2))
    return (one.left[:, None] @ gain)[:, 0], among - tie @ gain, own


class Moments(unittest.TestCase):
    def test_means_and_covariances_of_function_and_slope(self):
        for kernel in MATERN:
            for along in (None, 0):
                with self.subTest(kernel=kernel, along=along):
                    mean, spread, _ = dense(given(kernel), along)
                    slope = along is not None
                    found = smoothed(given(kernel), PLACES, slope=slope, joint=True)
                    np.testing.assert_allclose(found.means, mean, atol=1e-11)
                    np.testing.assert_allclose(found.covariances, spread, atol=1e-11)
                    alone = smoothed(given(kernel), PLACES, slope=slope)
                    each = np.diagonal(spread, axis1=1, axis2=2)
                    np.testing.assert_allclose(alone.variances, each, atol=1e-11)

    def test_each_reading_given_all_others(self):
        for kernel in MATERN:
            one = given(kernel)
            precision = np.linalg.inv(dense(one)[2])
            want = 1 / np.diagonal(precision, axis1=1, axis2=2)
            gaps, variances = left_out(one)
            np.testing.assert_allclose(variances, want, rtol=1e-10)
            pulls = np.einsum("dij,dj->di", precision, one.left)
            np.testing.assert_allclose(gaps, want * pulls, atol=1e-10)

    def test_draws(self):
        for kernel in MATERN:
            one = given(kernel, 6000)
            drawn, moments = sampled(one, PLACES, np.random.default_rng(1))
            mean, spread, _ = dense(given(kernel))
            np.testing.assert_allclose(moments.means[:DRAWS], mean, atol=1e-11)
            for at in range(DRAWS):
                some = drawn[at::DRAWS]
                error = (some.mean(axis=0) - mean[at]) / np.sqrt(np.diag(spread[at]) / len(some))
                self.assertLess(np.abs(error).max(), 4)
                sds = np.sqrt(np.diag(spread[at]))
                off = (np.cov(some.T) - spread[at]) / np.outer(sds, sds)
                self.assertLess(np.abs(off).max(), 4 * np.sqrt(2 / len(some)))


def model(kernel, times=""):
    """A product with 1 is no kernel that rows are gone through with, but the same one."""
    return mw.Model(
        priors={
            "m": "normal(0, 1)",
            "h": "half_normal(1)",
            "l": "inverse_gamma(shape=3, scale=2)",
            "s": "half_normal(1)",
        },
        likelihood={
            "y": f"gaussian_process(m + 0.1 * x, noise=s * e, "
            f"kernel={times}{kernel}(x, scale=h, length=l))"
        },
    )


class InModels(unittest.TestCase):
    def test_density_and_gradient_are_those_of_the_matrix(self):
        data = {"x": X, "y": np.sin(X), "e": MAKE.uniform(0.5, 2, ROWS)}
        positions = np.random.default_rng(2).normal(size=(3, 4))
        for rows, kernel in ((ROWS, "matern32"), (ROWS, "matern52"), (1, "matern52")):
            some = {name: column[:rows] for name, column in data.items()}
            found = []
            for times in ("", "1 * "):
                target = target_of(model(kernel, times).bind(some))
                each = jax.jit(jax.vmap(jax.value_and_grad(target.log_density), (0, None)))
                found.append(each(positions, target.arguments))
            (values, slopes), (want, want_slopes) = found
            np.testing.assert_allclose(values, want, rtol=1e-9)
            np.testing.assert_allclose(slopes, want_slopes, rtol=1e-7, atol=1e-9)

    def test_a_length_for_each_row_is_refused(self):
        data = {"x": X, "y": X, "e": X, "$5": ["a", "b"] * (ROWS // 2)}
        priors = {"l": "lognormal(0, 1) per g"}
        for kernel in (*MATERN, "squared_exponential"):
            told = f"gaussian_process(0, noise=1, kernel={kernel}(x, scale=1, length=l[g]))"
            uneven = mw.Model(priors=priors, likelihood={"y": told}, columns={"g": "$5"})
            with self.assertRaisesRegex(ModelError, "`length` of .* must be one number"):
                uneven.bind(data)

    def test_rows_left_out_new_rows_and_rows_again(self):
        make = np.random.default_rng(3)
        x = make.uniform(0, 6, 130)
        data = {"x": x, "y": np.sin(x) + make.normal(0, 0.3, 130), "e": np.ones(130)}
        posterior = model("matern32").fit(data, draws=100, warmup=200, seed=1, progress=False)
        names = ("m", "h", "l", "s")
        m, h, length, s = (posterior.draws.get(name).reshape(-1) for name in names)
        rows = log_likelihood_of(posterior.draws, "y", range(130))
        told = []
        for at in range(len(m)):
            own = s[at] ** 2 * np.eye(130) + kernel_of(x, x, h[at], length[at])
            inverse = np.linalg.inv(own)
            each = 1 / np.diag(inverse)
            gap = each * (inverse @ (data["y"] - m[at] - 0.1 * x))
            told.append(stats.norm(0, np.sqrt(each)).logpdf(gap))
        np.testing.assert_allclose(rows, told, atol=1e-8)
        new = {"x": np.array([1.0, 3.0, 7.0]), "e": np.full(3, 0.5)}
        found = posterior.predict(new).draws["y"]
        self.assertEqual(found.shape[-1], 3)
        mean, variance = self._at(new["x"], data, m, h, length, s)
        error = found.reshape(-1, 3).mean(axis=0) - mean.mean(axis=0)
        sds = np.sqrt((variance + (0.5 * s[:, None]) ** 2).mean(axis=0) + mean.var(axis=0))
        self.assertLess(np.abs(error / sds * np.sqrt(len(m))).max(), 4)
        self.assertIn("y", str(posterior.predictive_check()))

    @staticmethod
    def _at(places, data, m, h, length, s):
        means, variances = [], []
        for at in range(len(m)):
            own = kernel_of(data["x"], data["x"], h[at], length[at]) + s[at] ** 2 * np.eye(130)
            tie = kernel_of(places, data["x"], h[at], length[at])
            gain = np.linalg.solve(own, tie.T)
            left = data["y"] - m[at] - 0.1 * data["x"]
            means.append(m[at] + 0.1 * places + left @ gain)
            variances.append(h[at] ** 2 - np.sum(tie.T * gain, axis=0))
        return np.array(means), np.array(variances)


def kernel_of(a, b, height, length):
    return height**2 * covariance("matern32", a, b, np.array([[length]]))[0]


if __name__ == "__main__":
    unittest.main()
