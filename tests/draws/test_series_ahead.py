"""Series that are observed themselves: lines with errors that lean on the past, forecasts."""

import functools
import unittest

import numpy as np

import millwright as mw
from millwright.errors import ArgumentError, ModelError

WEIGHTS, STEP, START = np.array([0.5, 0.3]), 0.4, 1.5
ROWS, AHEAD = 30, 6


@functools.cache
def readings():
    """Hours and moisture of more rows than are fitted."""
    rng = np.random.default_rng(3)
    hours = rng.normal(size=ROWS + AHEAD).round(2)
    rest = [1.0, 0.4]
    for _ in range(ROWS + AHEAD - 2):
        rest.append(WEIGHTS @ rest[:-3:-1] + STEP * rng.normal())
    return hours, 1 + 0.8 * hours + np.array(rest)


def whitening(rows):
    """The matrix that turns what is around the line into independent standard steps."""
    matrix = np.eye(rows)
    for row in range(2, rows):
        matrix[row, row - 2 : row] = -WEIGHTS[::-1]
    return matrix / np.where(np.arange(rows) < 2, START, STEP)[:, None]


@functools.cache
def fitted():
    hours, moisture = readings()
    model = mw.Model(
        priors={"middle": "normal(0, 1)", "drying": "normal(0, 1)"},
        likelihood={
            "moisture": f"autoregressive(middle + drying * hours, {STEP}, "
            f"coefficients=[0.5, 0.3], start_scale={START})"
        },
    )
    data = {"hours": hours[:ROWS], "moisture": moisture[:ROWS]}
    return model.fit(data, seed=1, progress=False)


def joint(rows, known):
    """Mean and covariance of all rows by one dense normal, given the known ones."""
    hours, moisture = readings()
    x = np.column_stack([np.ones(rows), hours[:rows]])
    root = np.linalg.inv(whitening(rows))
    prior = x @ x.T + root @ root.T
    gain = prior[:, :known] @ np.linalg.inv(prior[:known, :known])
    return gain @ moisture[:known], prior - gain @ prior[:known]


class Regression(unittest.TestCase):
    def test_a_line_with_errors_that_lean_on_the_past_against_algebra(self):
        hours, moisture = readings()
        x = whitening(ROWS) @ np.column_stack([np.ones(ROWS), hours[:ROWS]])
        spread = np.linalg.inv(np.eye(2) + x.T @ x)
        mean = spread @ x.T @ (whitening(ROWS) @ moisture[:ROWS])
        table = fitted().table()
        self.assertTrue(fitted().verdict.good)
        for row, (name, exact) in enumerate(zip(("middle", "drying"), mean, strict=True)):
            sd = np.sqrt(spread[row, row])
            self.assertLess(abs(table["mean"][name] - exact), 4.5 * sd / np.sqrt(1000))
            self.assertAlmostEqual(table["sd"][name] / sd, 1, delta=0.1)

    def test_it_goes_on_after_its_last_row_as_the_normal_does(self):
        hours, moisture = readings()
        mean, spread = (part[ROWS:] for part in joint(ROWS + AHEAD, ROWS))
        sd = np.sqrt(np.diag(spread[:, ROWS:]))
        found = fitted().predict({"hours": hours[ROWS:]})
        np.testing.assert_allclose(found.expected["moisture"], mean, atol=0.05)
        np.testing.assert_allclose(found.draws["moisture"].std(axis=0), sd, rtol=0.1)
        self.assertIn(f"moisture, row {ROWS + AHEAD}", str(found))
        exact = -0.5 * ((moisture[ROWS:] - mean) / sd) ** 2 - np.log(sd * np.sqrt(2 * np.pi))
        told = found.log_densities(moisture[ROWS:])["moisture"]
        np.testing.assert_allclose(told, exact, atol=0.08)
        self.assertTrue(np.isfinite(found.score(moisture[ROWS:]).frame.to_numpy()).all())

    def test_a_first_row_alone_goes_on_with_the_rows_of_its_start(self):
        hours, moisture = readings()
        one = mw.Model(
            priors={"offset": "normal(0, 0.0001)"},
            likelihood={
                "moisture": f"autoregressive(offset + hours, {STEP}, coefficients=[0.5, 0.3], "
                f"start_scale={START})"
            },
        ).fit({"hours": hours[:1], "moisture": moisture[:1]}, seed=1, progress=False)
        found = one.predict({"hours": hours[1:4]}).draws["moisture"]
        rest = moisture[0] - hours[0]
        mean = hours[1:4] + rest * np.array([0.0, 0.3, 0.15])
        second = 0.25 * START**2 + STEP**2
        third = (0.25 + 0.3) ** 2 * START**2 + (0.25 + 1) * STEP**2
        sd = np.sqrt([START**2, second, third])
        self.assertTrue((np.abs(found.mean(axis=0) - mean) < 4.5 * sd / np.sqrt(1000)).all())
        np.testing.assert_allclose(found.std(axis=0), sd, rtol=0.12)


class Walks(unittest.TestCase):
    def walk(self, more=""):
        hours, moisture = readings()
        model = mw.Model(
            priors={"drift": "normal(0, 0.0001)"},
            likelihood={
                "moisture": "random_walk(start=0, scale=where(hours > 0, 0.2, 0.7), "
                f"drift=0.3 + drift{more})"
            },
        )
        data = {"hours": hours[:ROWS], "moisture": moisture[:ROWS]}
        return model.fit(data, seed=1, draws=500, progress=False)

    def test_a_walk_goes_on_with_steps_of_the_new_rows(self):
        hours, moisture = readings()
        found = self.walk().predict({"hours": hours[ROWS:]})
        mean = moisture[ROWS - 1] + 0.3 * np.arange(1, AHEAD + 1)
        sd = np.sqrt(np.cumsum(np.where(hours[ROWS:] > 0, 0.2, 0.7) ** 2))
        np.testing.assert_allclose(found.expected["moisture"], mean, atol=0.001)
        np.testing.assert_allclose(found.draws["moisture"].std(axis=0), sd, rtol=0.12)

    def test_what_has_no_forecast_and_no_line_says_so(self):
        jumping = self.walk(", df=3")
        with self.assertRaisesRegex(ModelError, "cannot be predicted from it"):
            jumping.predict({"hours": [1.0]})
        level = mw.Model(
            priors={"drying": "normal(0, 1)"},
            likelihood={
                "moisture": "state_space(transition=[[1]], loading=[1], scale=[0.4], noise=0.3, "
                "start=[0], start_scale=[1], location=drying * hours)"
            },
        )
        hours, moisture = readings()
        data = {"hours": hours[:ROWS], "moisture": moisture[:ROWS]}
        followed = level.fit(data, seed=1, draws=200, progress=False)
        for posterior in (fitted(), followed):
            with self.assertRaisesRegex(ArgumentError, "no line along a column"):
                mw.plots.fitted_line(posterior, "hours")
        with self.assertRaisesRegex(ArgumentError, "not an outcome with a latent function"):
            fitted().latent("moisture")

    def test_the_figure_of_a_series_without_states(self):
        figure = mw.plots.series(fitted())
        self.assertEqual(len(figure.axes), 1)
        self.assertEqual(len(figure.axes[0].lines[0].get_xdata()), ROWS)
        with self.assertRaisesRegex(ArgumentError, "has none as an outcome"):
            plain = mw.Model(priors={"m": "normal(0, 1)"}, likelihood={"y": "normal(m, 1)"})
            mw.plots.series(plain.fit({"y": [1.0, 2.0]}, seed=1, draws=100, progress=False))


class Unknown(unittest.TestCase):
    def test_a_series_around_a_line_is_a_line_beside_a_series_around_zero(self):
        rng = np.random.default_rng(0)
        day = np.tile(np.arange(5), 2)
        data = {"day": day, "trend": day - 2.0, "level": rng.normal(size=10).round(2)}
        series = "autoregressive({}, 0.7, coefficients=[lean], start_scale=1.2) per day"
        shared = {"rise": "normal(0, 1)", "lean": "uniform(low=-0.9, high=0.9)"}
        inside = {**shared, "own": series.format("rise * trend")}
        beside = {**shared, "own": series.format("0")}
        found, ahead = [], []
        for priors, location in ((inside, "own[day]"), (beside, "rise * trend + own[day]")):
            model = mw.Model(priors=priors, likelihood={"level": f"normal({location}, 0.5)"})
            posterior = model.fit(data, seed=1, progress=False)
            self.assertTrue(posterior.verdict.good, str(posterior.verdict))
            found.append(posterior.evidence().log_value)
            new = {"day": [5, 6], "trend": [3.0, 4.0]}
            ahead.append(posterior.predict(new, new_labels="draw").expected["level"])
        self.assertAlmostEqual(*found, delta=0.03)
        np.testing.assert_allclose(*ahead, atol=0.15)
