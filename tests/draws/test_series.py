"""State-space series: missing readings, forecasts, smoothed states, against dense algebra."""

import functools
import tempfile
import unittest

import jax.numpy as jnp
import numpy as np

import millwright as mw
from millwright.errors import ArgumentError, DataError, MillwrightError, ModelError
from millwright.fitting.target import target_of

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

    def test_two_gauges_read_one_state_whose_start_is_open(self):
        """Against the level of a long dense normal: rows of one hour read it together."""
        generator = np.random.default_rng(4)
        level = 5 + 0.3 * generator.standard_normal(40).cumsum()
        hours = np.repeat(np.arange(40.0), 2)
        gauges = np.tile(["upper", "lower"], 40)
        sds = np.where(gauges == "upper", 0.2, 0.5)
        data = {
            "hour": hours,
            "gauge": gauges,
            "level": level.repeat(2) + sds * generator.standard_normal(80),
        }
        model = mw.Model(
            priors={"step": "half_normal(1)", "offset": "normal(0, 0.0001)"},
            likelihood={
                "level": "state_space(transition=[[1]], loading=[1], scale=[0.3], "
                'noise=where(gauge == "upper", 0.2, 0.5), location=offset, time=hour)'
            },
            derived={"spare": "2 * step"},
        )
        posterior = model.fit(data, seed=1, draws=300, progress=False)
        self.assertIn("its first state may be anything", model.describe())
        near = 0.09 * np.minimum.outer(hours, hours) + 1e6
        gain = near @ np.linalg.inv(near + np.diag(sds**2))
        sd = np.sqrt(np.diag(near - gain @ near))
        table = posterior.states("level")
        error = np.abs(table["mean"].to_numpy() - gain @ data["level"])
        self.assertTrue((error < 4.5 * sd / np.sqrt(1000)).all())
        new = {"hour": [39.0, 40.0, 40.0], "gauge": ["upper", "upper", "lower"]}
        found = posterior.predict(new)
        wide = np.sqrt(np.array([sd[-1] ** 2, sd[-1] ** 2 + 0.09, sd[-1] ** 2 + 0.09]))
        np.testing.assert_allclose(
            found.draws["level"].std(axis=0), np.hypot(wide, [0.2, 0.2, 0.5]), rtol=0.1
        )
        axes = mw.plots.series(posterior).axes
        self.assertEqual(axes[-1].get_xlabel(), "hour")
        self.assertEqual(len(axes[-1].lines[0].get_xdata()), 40)
        self.assertIn("step < 1", str(posterior.bayes_factor("step < 1")))
        for act in (lambda: posterior.evidence(), lambda: model.simulate(data)):
            with self.assertRaisesRegex(ModelError, "may be anything"):
                act()
        for hour, words in (([41.0], "add a row with a missing"), ([3.0], "order of time")):
            with self.assertRaisesRegex(DataError, words):
                posterior.predict({"hour": hour, "gauge": ["upper"]})

    def test_a_matrix_may_come_from_a_function_of_the_unknowns(self):
        def turning(angle):
            return jnp.array([[jnp.cos(angle), jnp.sin(angle)], [-jnp.sin(angle), jnp.cos(angle)]])

        mw.register("turning", turning, gives=(2, 2))
        written = {
            "called": "turning(angle)",
            "listed": "[[cos(angle), sin(angle)], [-sin(angle), cos(angle)]]",
        }
        wave = np.sin(0.5 * np.arange(30)) + 0.1 * np.random.default_rng(1).normal(size=30)
        values = []
        for text in written.values():
            model = mw.Model(
                priors={"angle": "normal(0.5, 0.1)"},
                likelihood={
                    "wave": f"state_space(transition={text}, loading=[1, 0], scale=[0.1, 0.1], "
                    "noise=0.1)"
                },
            )
            values.append(target_of(model.bind({"wave": wave})).plain(np.array([[0.45]]))[0])
            if text == written["called"]:
                self._stored_and_loaded(
                    model.fit({"wave": wave}, seed=1, draws=50, warmup=200, progress=False)
                )
        self.assertAlmostEqual(values[0], values[1], places=9)

    def _stored_and_loaded(self, posterior):
        with tempfile.TemporaryDirectory() as folder:
            posterior.save(f"{folder}/run")
            again = mw.load(f"{folder}/run")
        want, found = (one.predict(rows=2).draws["wave"] for one in (posterior, again))
        np.testing.assert_array_equal(want, found)

    def test_bad_series_are_refused(self):
        data = {"hour": np.array([0.0, 1, 2, 4]), "gauge": np.array([1.0, 2, 1, 3])}
        common = "transition=[[1]], loading=[1], scale=[a], noise=1"
        for text, words in (
            (f"{common}, start=[0]", "given together"),
            (f"{common}, time=hour", "row 3 to row 4 time goes on by 2"),
            (f"{common}, time=-hour", "row 2 is at -1, after -0"),
            (f"{common}, time=a", "must be known"),
            (f"{common}, time=1", "must be a column"),
            ("transition=[[1, 0], [0, 1]], loading=[a, 2 * a], scale=[a, 1], noise=1", "density"),
            (
                "transition=[[1, 0], [0, 1]], loading=[1, 1], scale=[a, 1], noise=1",
                "do not tell all of its 2 entries apart",
            ),
        ):
            with self.subTest(text=text), self.assertRaisesRegex(MillwrightError, words):
                mw.Model(
                    priors={"a": "half_normal(1)"}, likelihood={"gauge": f"state_space({text})"}
                ).fit(data, progress=False)

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
