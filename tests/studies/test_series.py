"""One series in parts: against algebra and least squares, its tables, what is refused."""

import functools
import tempfile
import unittest
from pathlib import Path

import numpy as np
import pandas as pd

import millwright as mw
from millwright.errors import ArgumentError, DataError
from millwright.studies.series_parts import read_parts, waves

STUDY = mw.studies.series


def table(times=96):
    make = np.random.default_rng(2)
    level = 60 + np.cumsum(make.normal(scale=0.4, size=times))
    season = 4 * np.cos(2 * np.pi * (np.arange(times) - 3) / 12)
    hours = make.normal(size=times)
    flow = level + season + 1.5 * hours + make.normal(size=times)
    month = pd.period_range("1930-01", periods=times, freq="M").astype(str)
    return pd.DataFrame({"month": month, "flow (m3)": flow, "hours": hours, "level": level})


@functools.cache
def found():
    made = STUDY("level + season(12) + hours", table(), "flow (m3)", "month")
    return made.fit(seed=1, progress=False, draws=300)


class Exact(unittest.TestCase):
    def test_drifting_waves_are_the_rotating_states_of_a_season(self):
        times, period, start, step = 9, 5, 0.7, 0.3
        angle = 2 * np.pi / period
        turn = np.array([[np.cos(angle), np.sin(angle)], [-np.sin(angle), np.cos(angle)]])
        state = start**2 * np.eye(2)
        rotating = np.empty((times, times))
        for t in range(times):
            # The first state is one turn and one step after the start.
            state = turn @ state @ turn.T + step**2 * np.eye(2)
            ahead = state
            for s in range(t, times):
                rotating[t, s] = rotating[s, t] = ahead[0, 0]
                ahead = turn @ ahead
        z = waves(period, 1, np.arange(times))
        walk = start**2 + step**2 * (1.0 + np.minimum.outer(np.arange(times), np.arange(times)))
        drifting = walk * (z @ z.T)
        np.testing.assert_allclose(drifting, rotating, atol=1e-12)

    def test_what_hardly_drifts_is_least_squares(self):
        data = table()
        made = STUDY("trend + season(12, 1) + hours", data, "flow (m3)", drift=1e-6)
        answer = made.fit(seed=3, progress=False, draws=400)
        frame = answer.coefficients()
        away = (frame["median"] - frame["least squares"]) / frame["its error"]
        # The prior's sds are 2 sds of the series, some twenty standard errors.
        self.assertLess(away.abs().max(), 0.15)
        spread = (frame.iloc[:, 2] - frame.iloc[:, 1]) / frame["its error"]
        self.assertTrue(((spread > 3.6) & (spread < 4.4)).all())

    def test_it_agrees_with_the_kalman_filter(self):
        data = table(40)[["flow (m3)"]].rename(columns={"flow (m3)": "flow"})
        made = STUDY("level", data, "flow")
        answer = made.fit(seed=4, progress=False, draws=700)
        mean, sd = (one[0, 0] for one in made.parts.start)
        scale, half = made.parts.step_scale[0, 0], 0.5 * made.parts.scatter[0]
        model = mw.Model(
            priors={
                "step": f"half_normal({scale})",
                "variance": f"inverse_gamma(shape=1.5, scale={half})",
            },
            likelihood={
                "flow": "state_space(transition=[[1]], loading=[1], scale=[step], "
                f"noise=sqrt(variance), start=[{mean}], start_scale=[sqrt({sd}**2 + step**2)])"
            },
        )
        other = model.fit(data, seed=1, progress=False)
        for one, two in (("level_1_drift", "step"), ("variance_1", "variance")):
            first, second = answer.posterior.table().loc[one], other.table().loc[two]
            error = np.hypot(
                first["sd"] / np.sqrt(first["effective draws"]),
                second["sd"] / np.sqrt(second["effective draws"]),
            )
            self.assertLess(abs(first["mean"] - second["mean"]), 4.5 * error, one)


class Restless(unittest.TestCase):
    def broken(self):
        data = table()[["month", "flow (m3)"]]
        make = np.random.default_rng(6)
        size = np.exp(np.linspace(-1.5, 1, len(data)))
        data["flow (m3)"] = np.where(np.arange(len(data)) < 60, 40.0, 52.0)
        data["flow (m3)"] += size * make.normal(size=len(data))
        made = STUDY("level(breaks)", data, "flow (m3)", "month", error_drift=1)
        return made.fit(seed=2, progress=False, draws=200, warmup=150, chains=2)

    def test_a_break_is_found_and_noise_that_grows(self):
        answer = self.broken()
        self.assertIn("df=3", str(answer.study.model))
        first = answer.breaks().iloc[0]
        self.assertEqual(first.name, "1935-01")
        self.assertGreater(first["probability of being the largest"], 0.8)
        self.assertLess(abs(first["median step"] - 12), 2.5)
        self.assertIn("Largest step of the level: 1", str(answer))
        sizes = answer.error_spread(every=True)["median sd of errors"].to_numpy()
        self.assertLess(sizes[0], 0.7)
        self.assertGreater(sizes[-1], 1.5)
        self.assertIn("noise at 1937-12", answer.table().index)
        for name in ("parts", "errors", "forecast"):
            self.assertTrue(mw.plots.study(answer, name).axes)
        with self.assertRaisesRegex(ArgumentError, r"level\(breaks\)"):
            found().breaks()
        with self.assertRaises(ArgumentError):
            STUDY("level", table(), "flow (m3)", "month", error_drift=-1)


class Answers(unittest.TestCase):
    def test_parts_add_up_and_lie_at_the_truth(self):
        drawn = found().part_draws()
        self.assertEqual(list(drawn), ["level", "season(12)", "hours"])
        data = table()
        total = sum(drawn.values())
        left = data["flow (m3)"].to_numpy() - np.median(total, axis=0)
        self.assertLess(left.std(), 1.2)
        parts = found().parts()
        inside = parts.loc["level"]
        middle = data["level"].to_numpy()
        share = ((inside.iloc[:, 1] <= middle) & (middle <= inside.iloc[:, 2])).mean()
        self.assertGreater(share, 0.8)
        text = str(found())
        self.assertIn("`hours`: 1.", text)
        self.assertRegex(text, r"highest at 1937-0[345], lowest at 1937-(09|10|11)")

    def test_a_season_that_is_not_there_is_not_told(self):
        self.assertGreater(found().season_level("season(12)"), 0.999)
        self.assertIn("region leaves 0 out", " ".join(found().answer))
        make = np.random.default_rng(5)
        plain = {"flow": 50 + make.normal(size=72)}
        answer = STUDY("level + season(12)", plain, "flow").fit(
            seed=1, progress=False, draws=200, chains=2
        )
        self.assertIn("season(12): none that comes again is shown", " ".join(answer.answer))
        with self.assertRaises(ArgumentError):
            answer.season_level("level")

    def test_a_cycle_of_any_period(self):
        make = np.random.default_rng(3)
        turn = 3 * np.cos(2 * np.pi * np.arange(130) / 21.5 - 1)
        one = STUDY("cycle(21.5)", {"flow": 50 + turn + make.normal(size=130)}, "flow")
        answer = one.fit(seed=1, progress=False, draws=150)
        self.assertIn("cycle(21.5): from lowest to highest", " ".join(answer.answer))
        middle = np.median(answer.part_draws()["cycle(21.5)"], axis=0)
        self.assertGreater(np.corrcoef(middle, turn)[0, 1], 0.97)
        later = np.median(answer.forecast(20, seed=1).draws[:, :, 0], axis=0) - 50
        exact = 3 * np.cos(2 * np.pi * np.arange(130, 150) / 21.5 - 1)
        self.assertGreater(np.corrcoef(later, exact)[0, 1], 0.9)
        for text in ("cycle(2)", "cycle(900)", "cycle()"):
            with self.assertRaises((ArgumentError, DataError)):
                STUDY(text, {"flow": turn}, "flow")

    def test_forecasts_go_on_with_the_season(self):
        forecast = found().forecast(12, others={"hours": [0] * 12}, seed=1)
        middle = forecast.table()["median"].to_numpy()
        self.assertIn(int(np.argmax(middle)), (2, 3, 4))
        self.assertEqual(forecast.labels[0], "1938-01")
        with self.assertRaises(ArgumentError):
            found().forecast(12)
        for ask in (found().responses, found().shares, found().stability):
            with self.assertRaisesRegex(ArgumentError, "vector_autoregression"):
                ask()

    def test_it_is_stored_and_drawn(self):
        with tempfile.TemporaryDirectory() as folder:
            found().save(Path(folder) / "flow")
            self.assertEqual(mw.studies.load(Path(folder) / "flow").answer, found().answer)
        drawn = mw.plots.study(found())
        self.assertEqual(len(drawn.axes), 4)
        line = drawn.axes[1].lines[0].get_ydata()
        self.assertTrue(np.allclose(line, found().parts().loc["level", "median"]))
        plain = STUDY("level + trend", table(), "flow (m3)").fit(
            seed=1, progress=False, draws=100, warmup=50
        )
        self.assertTrue(mw.plots.study(plain, "forecast").axes)

    def test_missing_readings(self):
        data = table()
        data.loc[[5, 6, 95], "flow (m3)"] = np.nan
        made = STUDY("level + season(12)", data, "flow (m3)", "month")
        self.assertIn("3 missing readings", made.remarks[0])
        answer = made.fit(seed=1, progress=False, draws=100, warmup=50)
        self.assertEqual(answer.posterior.draws.get("reading").shape[-1], 3)


class Parts(unittest.TestCase):
    def test_reading(self):
        found = read_parts("level + season(7, 2) + drifting(`a + b`) + rain")
        self.assertEqual([p.kind for p in found], ["level", "season", "column", "column"])
        self.assertEqual(found[2].column, "a + b")
        self.assertEqual([p.drifts for p in found], [True, True, True, False])
        self.assertEqual(len(read_parts("season(4, 2)")[0].terms), 3)

    def test_what_is_refused(self):
        data = table()
        for parts, words in (
            ("", "is a text such as"),
            ("level + level", "twice"),
            ("level + season(1)", "period of 2"),
            ("level + season(12, 7)", "from 1 to 6"),
            ("level + seson(12)", "no part of a series"),
            ("level + hurs", "hours"),
            ("level + `flow (m3)`", "the series itself"),
            ("trend + `level`", "rename the column"),
        ):
            with self.subTest(parts=parts), self.assertRaises(ArgumentError) as refused:
                STUDY(parts, data, "flow (m3)", "month")
            self.assertIn(words, str(refused.exception))
        wave = data.assign(wave=np.cos(2 * np.pi * np.arange(96) / 12))
        for given, parts, words in (
            (data.head(20), "level + season(12)", "fewer than 2 rounds"),
            (wave, "season(12) + wave", "computed from the others"),
            (data.head(3), "level + trend", "give fewer parts"),
        ):
            with self.subTest(words=words), self.assertRaises(DataError) as refused:
                STUDY(parts, given, "flow (m3)", "month")
            self.assertIn(words, str(refused.exception))
        with self.assertRaises(ArgumentError):
            STUDY("level", data, "flow (m3)", drift=0)


if __name__ == "__main__":
    unittest.main()
