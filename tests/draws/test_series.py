"""State-space series: missing readings, forecasts, smoothed states, against dense algebra."""

import functools
import unittest

import numpy as np

import millwright as mw
from millwright.errors import ArgumentError, DataError

STEP, NOISE = 0.4, 0.5


@functools.cache
def readings():
    rng = np.random.default_rng(0)
    y = 5 + np.cumsum(rng.normal(0, STEP, 30)) + rng.normal(0, NOISE, 30)
    y[[7, 8, 20]] = np.nan
    return y


@functools.cache
def fitted():
    """A level with known steps and errors, and an offset that is as good as known."""
    model = mw.Model(
        priors={"offset": "normal(0, 0.0001)"},
        likelihood={
            "gauge": f"state_space(transition=[[1]], loading=[1], scale=[{STEP}], noise={NOISE}, "
            "start=[5], start_scale=[2], location=offset)"
        },
    )
    return model.fit({"gauge": readings()}, seed=1, progress=False)


def exact(ahead):
    """Mean and sd of all levels, and of readings ahead, by conditioning one large normal."""
    n = len(readings()) + ahead
    steps = np.minimum.outer(np.arange(n), np.arange(n))
    prior = 4 + STEP**2 * steps
    known = np.flatnonzero(~np.isnan(readings()))
    gain = prior[:, known] @ np.linalg.inv(
        prior[np.ix_(known, known)] + NOISE**2 * np.eye(len(known))
    )
    mean = 5 + gain @ (readings()[known] - 5)
    sd = np.sqrt(np.diag(prior - gain @ prior[known]))
    return mean, sd


class Series(unittest.TestCase):
    def test_missing_readings_are_passed_over_and_counted(self):
        self.assertIn("Missing readings of `gauge` passed over: 3.", str(fitted().verdict))
        self.assertTrue(fitted().verdict.good)
        self.assertTrue(np.isfinite(fitted().predictive_check().table()["observed"]).all())

    def test_smoothed_states_are_those_of_the_normal(self):
        mean, sd = exact(0)
        table = fitted().states("gauge")
        error = sd / np.sqrt(1000)
        self.assertTrue((np.abs(table["mean"].to_numpy() - mean) < 4.5 * error).all())
        np.testing.assert_allclose(table["sd"], sd, rtol=0.12)

    def test_forecasts_go_on_where_the_rows_end(self):
        mean, sd = exact(5)
        found = fitted().predict(rows=5)
        wide = np.sqrt(sd[-5:] ** 2 + NOISE**2)
        np.testing.assert_allclose(found.expected["gauge"], mean[-5:], atol=0.001)
        np.testing.assert_allclose(found.draws["gauge"].std(axis=0), wide, rtol=0.12)
        self.assertEqual(found.latent["gauge"].shape, (1000, 5))
        self.assertIn(f"gauge, row {len(readings()) + 5}", str(found))

    def test_gaps_alone_are_no_series(self):
        model = mw.Model(
            priors={"error": "exponential(rate=1)"},
            likelihood={
                "gauge": "state_space(transition=[[1]], loading=[1], scale=[1], noise=error, "
                "start=[5], start_scale=[2])"
            },
        )
        with self.assertRaisesRegex(DataError, "no reading at all"):
            model.fit({"gauge": [np.nan, np.nan]}, progress=False)

    def test_bad_questions(self):
        for act in (
            lambda: fitted().states("gage"),
            lambda: mw.plots.series(fitted(), ahead=-1),
            lambda: mw.plots.series(fitted(), "level"),
        ):
            with self.assertRaises(ArgumentError):
                act()
        self.assertEqual(len(mw.plots.series(fitted(), ahead=4).axes), 2)


if __name__ == "__main__":
    unittest.main()
