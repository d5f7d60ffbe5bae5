"""Vector autoregressions: exact posteriors, responses, forecasts, times, what is refused."""

import functools
import tempfile
import unittest
from pathlib import Path

import numpy as np
import pandas as pd
from scipy import stats
from scipy.special import logsumexp

import millwright as mw
from millwright.diagnostics.convergence import mean_error
from millwright.errors import ArgumentError, DataError, Interrupted
from millwright.studies.autoregression_conjugate import conjugate_posterior
from millwright.studies.autoregression_data import series_data
from millwright.studies.autoregression_paths import (
    ahead,
    impacts,
    lag_matrices,
    largest_roots,
    moved,
    shares_of_errors,
)

MARKET = mw.demo.load("flour_market")
STUDY = mw.studies.vector_autoregression


@functools.cache
def found():
    return STUDY(MARKET.frame, time="month").fit(seed=1, progress=False, draws=400)


@functools.cache
def constant():
    made = STUDY(MARKET.frame.tail(80), time="month", drift=0, lags=2)
    return made.fit(seed=1, progress=False, draws=300, warmup=100)


def restless(count):
    make = np.random.default_rng(11)
    size = np.exp(np.linspace(-1, 1.5, count))
    flow, stock = size * make.normal(size=count), make.normal(size=count)
    return pd.DataFrame({"flow": flow, "stock": stock + 0.3 * flow})


def level_only():
    make = np.random.default_rng(7)
    level = np.cumsum(make.normal(scale=0.25, size=30))
    return pd.DataFrame({"flow": level + make.normal(size=30)})


class ClosedForm(unittest.TestCase):
    """The conjugate prior: exact draws, against a sampler of the visible model."""

    study = STUDY(MARKET.frame.tail(60), time="month", series=["flow", "price"], conjugate=True)

    def test_exact_draws_agree_with_a_sampler_and_with_the_evidence_of_a_bridge(self):
        answer = self.study.fit(seed=1, progress=False)
        self.assertIn("Exact", answer.verdict.headline)
        sampled = self.study.model.fit(self.study.data_of(""), seed=2, progress=False)
        exact, other = answer.posterior.table(), sampled.table()
        error = np.hypot(exact["sd"] / np.sqrt(4000), other["sd"] / np.sqrt(other.iloc[:, -2]))
        self.assertTrue((np.abs(exact["mean"] - other["mean"]) < 4.5 * error).all())
        np.testing.assert_allclose(exact["sd"], other["sd"], rtol=0.1)
        found = answer.posterior.evidence()
        self.assertAlmostEqual(
            found.log_value,
            conjugate_posterior(self.study.parts).log_evidence,
            delta=4.5 * found.standard_error,
        )
        self.assertEqual(answer.forecast(3).draws.shape[1:], (3, 2))

    def test_scores_of_forecasts_and_a_store(self):
        table = self.study.compare_forecasts(2, draws=50, progress=False).frame
        self.assertTrue(np.isfinite(table.to_numpy()).all())
        with tempfile.TemporaryDirectory() as folder:
            answer = self.study.fit(seed=1, progress=False, save=f"{folder}/exact")
            again = mw.studies.load(f"{folder}/exact")
        self.assertEqual(str(again), str(answer))

    def test_what_no_conjugate_prior_can_have(self):
        gappy = MARKET.frame.tail(60).reset_index(drop=True)
        gappy.loc[7, "flow"] = np.nan
        for data, more, words in (
            (MARKET.frame, {"drift": 0.5}, "needs drift=0"),
            (MARKET.frame, {"cross": 0.5}, "needs cross=1"),
            (MARKET.frame, {"error_drift": 1.0}, "needs error_drift=0"),
            (MARKET.frame, {"conjugate": 1}, "true or false"),
            (gappy, {}, "1 readings are missing"),
        ):
            with self.subTest(more=more), self.assertRaisesRegex(ArgumentError, words):
                STUDY(data, time="month", **{"conjugate": True, **more})


class Stopped(unittest.TestCase):
    """Ctrl-C loses no draw that all chains had, and the end is that of a fit without it."""

    def test_a_stopped_fit_goes_on_to_the_same_draws(self):
        study = STUDY(MARKET.frame.tail(40), time="month")
        plan = {"seed": 3, "draws": 100, "warmup": 50, "chains": 2}
        whole = study.fit(progress=False, **plan)

        def stopping(at):
            def listener(progress):
                if sum(chain.done for chain in progress.chains) >= at:
                    raise KeyboardInterrupt

            return listener

        with self.assertRaisesRegex(Interrupted, "draws a chain that all had are in") as stop:
            study.fit(progress=stopping(250), **plan)
        some = stop.exception.posterior.draws
        self.assertLess(0, some.shape[1])
        for name, values in whole.posterior.draws.values.items():
            np.testing.assert_array_equal(some.values[name], values[:, : some.shape[1]])
        for at, words in ((60, "begins this model again"), (250, "goes on")):
            with tempfile.TemporaryDirectory() as folder:
                with self.assertRaisesRegex(Interrupted, words):
                    study.fit(progress=stopping(at), save=f"{folder}/stopped", **plan)
                again = mw.studies.resume(f"{folder}/stopped", progress=False)
            self.assertFalse(again.posterior.record.extended)
            for name, values in whole.posterior.draws.values.items():
                np.testing.assert_array_equal(again.posterior.draws.values[name], values)


class Exact(unittest.TestCase):
    def test_a_drifting_level_against_quadrature(self):
        made = STUDY(level_only(), constant=["flow, 1 before"])
        answer = made.fit(seed=5, progress=False, draws=1500, thin=4)
        self.assertTrue(answer.verdict.good)
        parts = made.parts
        y, x = parts.problem.outcomes[:, 0], parts.problem.regressors
        times = len(y)
        mean, sd = (one[0] for one in parts.start)
        scale, scatter = parts.step_scale[0, 0], parts.scatter[0]
        walk = 1.0 + np.minimum.outer(np.arange(times), np.arange(times))
        steps = np.concatenate([[0.0], np.geomspace(0.002, 5.0, 160) * scale])
        noises = np.geomspace(0.15, 4.0, 120)
        prior_noise = stats.invgamma(0.5 * parts.degrees, scale=0.5 * scatter)
        logs = np.empty((len(steps), len(noises)))
        last = np.empty_like(logs)
        start = x * sd**2 @ x.T
        for a, step in enumerate(steps):
            for b, noise in enumerate(noises):
                spread = start + step**2 * walk + noise * np.eye(times)
                root = np.linalg.cholesky(spread)
                left = y - x @ mean
                solved = np.linalg.solve(spread, left)
                logs[a, b] = -0.5 * left @ solved - np.log(np.diag(root)).sum()
                own = sd[0] ** 2 * np.ones(times) + step**2 * walk[-1]
                last[a, b] = mean[0] + own @ solved
        over_noise = prior_noise.logpdf(noises) + np.log(np.gradient(noises))
        by_step = logsumexp(logs + over_noise, axis=1)
        width = np.gradient(steps)
        width[0] = 0.5 * (steps[1] - steps[0])
        prior_step = stats.halfnorm(scale=scale).logpdf(steps) + np.log(width)
        weights = np.exp(by_step + prior_step - logsumexp(by_step + prior_step))
        whole = logs + over_noise + prior_step[:, None]
        share = np.exp(whole - logsumexp(whole))
        moving = logsumexp(by_step + prior_step) - by_step[0]
        draws = answer.posterior.draws
        for values, exact in (
            (draws.get("level_1_drift"), weights @ steps),
            (draws.get("variance_1"), (share * noises).sum()),
            (draws.get("level_1")[..., -1], (share * last).sum()),
        ):
            error = float(mean_error(values[..., None])[0])
            self.assertLess(abs(values.mean() - exact), 4.5 * error + 0.002 * abs(exact))
        row = answer.drifts().loc[("flow", "level")]
        got, error = row["log Bayes factor of moving"], row["its error"]
        self.assertLess(abs(got - moving), 4 * error + 0.02)

    def test_constant_coefficients_are_those_of_the_sampled_visible_model(self):
        made = constant().study
        sampled = made.model.fit(made.data_of("constant"), seed=2, progress=False)
        for name in ("slope_1_1", "slope_3_2", "level_2", "variance_2", "lean_3_1", "lean_2_1"):
            one, other = (f.draws.get(name)[..., None] for f in (constant().posterior, sampled))
            error = np.hypot(mean_error(one)[0], mean_error(other)[0])
            self.assertLess(abs(one.mean() - other.mean()), 4.5 * error, name)
            self.assertAlmostEqual(one.std() / other.std(), 1.0, delta=0.15)

    def test_draws_do_not_depend_on_the_number_of_workers(self):
        made = STUDY(MARKET.frame.tail(40), time="month")
        one, two = (
            made.fit(seed=3, progress=False, draws=30, warmup=10, chains=2, workers=count)
            for count in (1, 2)
        )
        for name, values in one.posterior.draws.values.items():
            self.assertTrue((values == two.posterior.draws.values[name]).all(), name)

    def test_missing_readings_are_drawn_around_the_truth(self):
        frame = MARKET.frame.tail(90).reset_index(drop=True)
        gappy = frame.copy()
        gappy.loc[[30, 31, 89], "stock"] = np.nan
        gappy = gappy.drop(index=50)
        made = STUDY(gappy, time="month")
        self.assertIn(f"no row: {frame.month[50]}", str(made.remarks))
        self.assertIn("6 missing readings", str(made.remarks))
        answer = made.fit(seed=1, progress=False, draws=100, warmup=50)
        values = answer.posterior.draws.get("reading").reshape(-1, 6)
        truth = {label: at for at, label in enumerate(made.parts.gap_labels)}
        at = truth[f"stock at {frame.month[30]}"]
        away = (values[:, at].mean() - frame.stock[30]) / values[:, at].std()
        self.assertLess(abs(away), 4)
        for ask in ("leave_one_out", "predictive_check"):
            with self.assertRaisesRegex(ArgumentError, "6 missing readings stand filled"):
                getattr(answer.posterior, ask)()
        self.assertEqual(answer.forecast(2).labels, ("1941-01", "1941-02"))


class DriftingErrors(unittest.TestCase):
    def test_the_sampled_visible_model_agrees(self):
        made = STUDY(restless(11), drift=0, error_drift=2)
        answer = made.fit(seed=1, progress=False, draws=800)
        sampled = made.model.fit(
            made.data_of("drifting"), seed=2, progress=False, draws=500, warmup=400
        )
        for name in ("slope_2_1", "lean_2_1", "log_sd_1_start", "log_sd_2", "log_sd_1"):
            one, other = (
                f.draws.get(name).reshape(*f.draws.shape, -1)[..., -1:]
                for f in (answer.posterior, sampled)
            )
            error = np.hypot(mean_error(one)[0], mean_error(other)[0])
            self.assertLess(abs(one.mean() - other.mean()), 4.5 * error, name)
            self.assertAlmostEqual(one.std() / other.std(), 1.0, delta=0.2, msg=name)

    def test_errors_that_grow_are_found_and_steady_ones_too(self):
        frame = restless(150)
        settings = {"chains": 2, "draws": 400, "warmup": 100}
        answer = STUDY(frame, drift=0, error_drift=1).fit(seed=3, progress=False, **settings)
        table = answer.error_spread(every=True)
        first, last = (
            table.loc[("flow", label)] for label in (answer.time_label(2), answer.time_label(None))
        )
        self.assertLess(first.iloc[2], 1.0)
        self.assertGreater(last.iloc[1], 1.0)
        drifts = answer.drifts()["log Bayes factor of moving"].astype(float)
        self.assertGreater(drifts["flow", "log sd of errors"], np.log(10))
        self.assertLess(drifts["stock", "log sd of errors"], 0)
        # The Bayes factor by the share of draws that hardly step, which a fine bin would give.
        step = answer.posterior.draws.get("log_sd_2_drift")
        near = 0.3 * answer.study.parts.size_scale
        rough = np.log((step < near).mean() / (2 * stats.norm.cdf(0.3) - 1))
        self.assertAlmostEqual(-drifts["stock", "log sd of errors"], rough, delta=0.4)
        self.assertIn("Errors of `flow`: sd", str(answer))
        self.assertTrue(mw.plots.study(answer, "errors").axes)
        on, off = (answer.forecast(12, drift=one, seed=1) for one in ("on", "off"))
        self.assertIn("Sds of errors go on drifting.", on.remarks)
        kurtosis = [stats.kurtosis(one.draws[:, -1, 0]) for one in (on, off)]
        self.assertGreater(kurtosis[0], kurtosis[1])
        answers = answer.responses([answer.time_label(2), None], horizon=1).table()["median"]
        early, late = answers.xs(("flow", "flow", 0), level=(1, 2, 3))
        self.assertLess(early, late)

    def test_going_on_gives_the_draws_of_one_longer_fit(self):
        frame = restless(40)
        frame.loc[[20, 39], "flow"] = np.nan
        made = STUDY(frame, error_drift=1)
        settings = {"seed": 1, "progress": False, "chains": 2, "warmup": 10}
        whole = made.fit(draws=25, **settings)
        with tempfile.TemporaryDirectory() as folder:
            made.fit(draws=10, save=f"{folder}/part", **settings)
            longer = mw.studies.load(f"{folder}/part").extend(15, progress=False)
        for name, values in whole.posterior.draws.values.items():
            self.assertTrue((values == longer.posterior.draws.values[name]).all(), name)
        self.assertEqual(longer.posterior.record.settings["draws"], 25)
        self.assertTrue(np.isfinite(longer.still).all())
        with self.assertRaisesRegex(ArgumentError, r"findings\.extend\(5\)"):
            longer.posterior.extend(5)


class Consequences(unittest.TestCase):
    SLOPES = np.array([[[1.0, 0.5, 0.1, 0.2, 0.0], [2.0, -0.3, 0.4, 0.0, 0.1]]])
    ERRORS = np.array([[[1.0, 0.4], [0.4, 2.0]]])

    def companion(self):
        whole = np.zeros((4, 4))
        whole[:2] = self.SLOPES[0, :, 1:]
        whole[2:, :2] = np.eye(2)
        return whole

    def test_responses_are_powers_of_the_companion_matrix(self):
        moves = moved(lag_matrices(self.SLOPES, 2), 6)[0]
        for later in range(7):
            power = np.linalg.matrix_power(self.companion(), later)[:2, :2]
            self.assertTrue(np.allclose(moves[later], power))
        root = largest_roots(self.SLOPES, 2)[0]
        self.assertAlmostEqual(root, np.abs(np.linalg.eigvals(self.companion())).max())

    def test_shocks(self):
        ordered = impacts(self.ERRORS, [0, 1], False, False)[0]
        self.assertTrue(np.allclose(ordered, np.linalg.cholesky(self.ERRORS[0])))
        turned = impacts(self.ERRORS, [1, 0], False, False)[0]
        self.assertTrue(np.allclose(turned @ turned.T, self.ERRORS[0]))
        self.assertEqual(turned[1, 0], 0.0)
        general = impacts(self.ERRORS, [0, 1], True, False)[0]
        self.assertTrue(np.allclose(general, self.ERRORS[0] / np.sqrt([1.0, 2.0])))
        for generalised in (False, True):
            unit = impacts(self.ERRORS, [0, 1], generalised, True)[0]
            self.assertTrue(np.allclose(np.diag(unit), 1.0))
        moves = moved(lag_matrices(self.SLOPES, 2), 3)
        shares = shares_of_errors(moves, ordered[None])
        self.assertTrue(np.allclose(shares.sum(axis=-1), 1.0))
        self.assertTrue(np.allclose(shares[0, 0], ordered**2 / np.diag(self.ERRORS[0])[:, None]))

    def test_forecasts_are_the_exact_normal_and_condition_exactly(self):
        draws, steps = 40_000, 3
        coefficients = np.broadcast_to(self.SLOPES, (draws, 2, 5))
        paths = np.repeat(coefficients[:, None], steps, axis=1)
        past = np.broadcast_to([[0.5, 1.0], [2.0, -1.0]], (draws, 2, 2))
        errors = np.broadcast_to(self.ERRORS, (draws, 2, 2))
        middle = np.array([0.3, -0.2])

        def drawn(stated):
            generator = np.random.default_rng(1)
            others = np.zeros((steps, 0))
            return ahead(paths, errors[:, None], past, middle, others, stated, generator)

        free = drawn(np.full((steps, 2), np.nan))
        state = np.concatenate([past[0, 1] - middle, past[0, 0] - middle])
        level, spread = self.SLOPES[0, :, 0], np.zeros((4, 4))
        shock = np.zeros((4, 4))
        shock[:2, :2] = self.ERRORS[0]
        for at in range(steps):
            mean = level + (self.companion() @ state)[:2]
            state = np.concatenate([mean - middle, state[:2]])
            spread = self.companion() @ spread @ self.companion().T + shock
            sample = free.draws[:, at]
            error = np.sqrt(np.diag(spread)[:2] / draws)
            self.assertLess(np.abs((sample.mean(axis=0) - mean) / error).max(), 4.5)
            self.assertTrue(np.allclose(np.cov(sample.T), spread[:2, :2], atol=0.08))
        stated = np.full((steps, 2), np.nan)
        stated[2, 0] = 3.0
        given = drawn(stated)
        whole = np.cov(free.draws.reshape(draws, -1).T)
        mean = free.draws.reshape(draws, -1).mean(axis=0)
        exact = mean + whole[:, 4] / whole[4, 4] * (3.0 - mean[4])
        self.assertTrue((given.draws[:, 2, 0] == 3.0).all())
        got = given.draws.reshape(draws, -1).mean(axis=0)
        self.assertTrue(np.allclose(got, exact, atol=0.06))


class Answers(unittest.TestCase):
    def test_the_drift_that_made_the_data_is_found(self):
        table = found().drifts()["log Bayes factor of moving"].astype(float)
        self.assertEqual(len(table), 12)
        self.assertGreater(table["price", "stock, 1 before"], np.log(10))
        late, early = (
            found().coefficients(at).loc[("price", "stock, 1 before", at), "median"]
            for at in ("1940-12", "1931-02")
        )
        self.assertLess(early, late)
        text = str(found())
        for words in (
            "Converged",
            "Gibbs sampling, 5 sweeps a draw",
            "Not asked: what causes",
        ):
            self.assertIn(words, text)
        self.assertIn("least squares", str(constant().coefficients().columns))

    def test_tables_fit_each_other(self):
        every = found().coefficients(every=True)
        self.assertEqual(len(every), 239 * 12)
        at = found().coefficients("1935-06")
        self.assertTrue(at["median"].equals(every.loc[at.index, "median"]))
        classical = found().study.parts.data.classical[0]
        self.assertAlmostEqual(at["least squares"].iloc[5], classical[1, 1])
        several = found().responses(["1931-02", None], horizon=3)
        self.assertEqual(len(several.table()), 2 * 9 * 4)
        added = found().responses(horizon=3, cumulated=True)
        plain = found().responses(horizon=3)
        for time, draws in plain.draws.items():
            self.assertTrue(np.allclose(np.cumsum(draws, axis=1), added.draws[time]))
        shares = found().shares(horizon=4).table()["mean share"]
        self.assertTrue(np.allclose(shares.groupby(level=["series", "step"]).sum(), 1.0))
        stable = found().stability()["probability below 1"]
        self.assertTrue(((stable >= 0) & (stable <= 1)).all())

    def test_forecasts_are_scored(self):
        forecast = found().forecast(12, seed=1)
        score = forecast.score(MARKET.held_back).frame
        self.assertTrue((score["inside 95 % interval"] > 0.6).all())
        real = MARKET.held_back["price"].to_numpy()
        spread = forecast.draws[:, :, 2]
        rough = np.mean([np.log(stats.gaussian_kde(spread[:, t])(real[t])[0]) for t in range(12)])
        self.assertAlmostEqual(score.loc["price", "log score"], rough, delta=0.15)
        held = found().forecast(4, given={"stock": [None, 150]})
        self.assertTrue((held.draws[:, 1, 1] == 150).all())
        off = found().forecast(12, drift="off", seed=1)
        wide, narrow = (one.draws[:, -1].std(axis=0).sum() for one in (forecast, off))
        self.assertLess(narrow, wide)

    def test_rolling_forecasts_beside_constant_ones_and_a_random_walk(self):
        frame = MARKET.frame.tail(40).reset_index(drop=True)
        frame.loc[39, "stock"] = np.nan
        made = STUDY(frame, ["flow", "stock"], "month")
        table = made.compare_forecasts(2, draws=60, progress=False).frame
        self.assertEqual(
            list(table.index.unique("model")), ["drifting", "constant", "random walk"]
        )
        walk = frame.flow.to_numpy()
        exact = np.sqrt(np.mean((walk[37:39] - walk[38:40]) ** 2))
        self.assertAlmostEqual(table.loc[("random walk", "flow"), "root-mean-square error"], exact)
        self.assertTrue(np.isfinite(table.to_numpy()).all())
        one = mw.studies.series("level", frame.head(39), "stock", "month")
        self.assertIn("series", one.compare_forecasts(1, draws=60, progress=False).frame.index)
        with self.assertRaises(ArgumentError):
            made.compare_forecasts(30)

    def test_it_is_stored_loaded_and_drawn(self):
        with tempfile.TemporaryDirectory() as folder:
            found().save(Path(folder) / "market")
            again = mw.studies.load(Path(folder) / "market")
            self.assertEqual(again.answer, found().answer)
        for answer in (found(), constant()):
            for name in ("coefficients", "responses", "forecast", "shares"):
                with self.subTest(figure=name):
                    self.assertTrue(mw.plots.study(answer, name).axes)
        with self.assertRaises(ArgumentError):
            mw.plots.responses(found())
        with self.assertRaises(ArgumentError):
            mw.plots.forecast(found())


class Times(unittest.TestCase):
    def read(self, times, **columns):
        count = len(times)
        make = np.random.default_rng(0)
        frame = pd.DataFrame({"when": times, "a": make.normal(size=count), **columns})
        return series_data(frame, ["a"], "when", 1, ())

    def test_dates_periods_and_numbers(self):
        for times, unit, after in (
            (pd.date_range("2020-01-31", periods=12, freq="ME"), "month", "2021-01"),
            (pd.date_range("2020-01-06", periods=12, freq="7D"), "week", "2020-03-30/2020-04-05"),
            ([f"{year}-07-01" for year in range(1990, 2002)], "year", "2002"),
            (pd.period_range("2001Q1", periods=12, freq="Q"), "quarter", "2004Q1"),
            (
                [f"{year}Q{q}" for year in (2001, 2002, 2003) for q in range(1, 5)],
                "quarter",
                "2004Q1",
            ),
            ([f"2020-{month:02d}" for month in range(1, 13)], "month", "2021-01"),
            (range(1900, 1912), "1", "1912"),
            (np.arange(12) * 0.25, "0.25", "3"),
        ):
            with self.subTest(unit=unit):
                made = self.read(times)
                self.assertEqual((made.times.unit, *made.times.after(1)), (unit, after))

    def test_gaps_become_missing_readings(self):
        made = self.read([1, 2, 3, 5, 6, 7, 8, 9])
        self.assertIn("1 times have no row: 4", made.remarks[0])
        self.assertEqual(len(made.gaps[0]), 1)

    def test_times_that_are_refused(self):
        for times, words in (
            ([1, 2, 3, 2, 5, 6, 7, 8], "not sorted"),
            ([1, 2, 2, 3, 5, 6, 7, 8], "twice"),
            ([1, 2, 3.3, 4, 5, 6, 7, 8], "unevenly spaced"),
            ([1, 2, None, 4, 5, 6, 7, 8], "missing in row 3"),
            ([1, 2, 3, 4, 5, 6, 7, 800], "have no row"),
            (["x", "y", "z", "u", "v", "w", "q", "r"], "neither a number nor a date"),
            ([f"01/0{month}/2020" for month in range(1, 9)], "year first"),
        ):
            with self.subTest(words=words), self.assertRaises(DataError) as refused:
                self.read(times)
            self.assertIn(words, str(refused.exception))


class Refused(unittest.TestCase):
    def test_series_that_make_no_sense(self):
        frame = MARKET.frame.tail(40).reset_index(drop=True)
        for data, settings, words in (
            (frame.head(5), {}, "at least"),
            (frame.assign(flow=3.0), {}, "same at all times"),
            (frame.assign(twice=2 * frame.flow - frame.stock), {}, "computed from each other"),
            (
                frame.assign(rain=np.where(frame.index == 7, np.nan, 1.0 * frame.index)),
                {"others": ["rain"]},
                "missing at",
            ),
            (frame.assign(price=0.9 ** np.arange(40)), {}, "wholly by its own past"),
        ):
            with self.subTest(words=words), self.assertRaises(DataError) as refused:
                STUDY(data, time="month", **settings)
            self.assertIn(words, str(refused.exception))

    def test_settings_and_questions_that_make_no_sense(self):
        frame = MARKET.frame.tail(40).assign(level=np.arange(40.0) % 7)
        for settings, words in (
            ({"lags": 0}, "lags"),
            ({"series": ["flow"], "others": ["level"]}, "rename the column"),
            ({"series": ["flow", "flow"]}, "named twice"),
            ({"series": ["flw"]}, "flow"),
            ({"drift": -1}, "drift"),
            ({"tightness": 0}, "tightness"),
            ({"constant": ["levl"]}, "level"),
            ({"others": ["price"], "series": ["price", "flow"]}, "named twice"),
        ):
            with self.subTest(settings=settings), self.assertRaises(ArgumentError) as refused:
                STUDY(frame, time="month", **settings)
            self.assertIn(words, str(refused.exception))
        for ask, words in (
            (lambda: found().coefficients("1850-01"), "no time"),
            (lambda: found().responses(order=["flow", "stock"]), "leaves out price"),
            (lambda: found().responses(order=["flow", "stock", "stock"]), "leaves out price"),
            (lambda: found().responses(form="other"), "generalised"),
            (lambda: found().forecast(0), "horizon"),
            (lambda: found().forecast(3, given={"rain": [1]}), "no series"),
            (lambda: found().forecast(1, given={"flow": [1, 2]}), "2 readings"),
            (lambda: constant().drifts(), "Nothing drifts"),
            (lambda: found().study.fit(method="ensemble"), "no setting of Gibbs"),
            (lambda: found().study.fit(draws=0), "draws"),
        ):
            with self.subTest(words=words), self.assertRaises(ArgumentError) as refused:
                ask()
            self.assertIn(words, str(refused.exception))

    def test_other_columns(self):
        frame = MARKET.frame.tail(60).reset_index(drop=True)
        frame["rain"] = np.sin(frame.index)
        made = STUDY(frame, ["flow", "price"], "month", others=["rain"], drift=0)
        answer = made.fit(seed=1, progress=False, draws=100, warmup=30)
        self.assertIn("rain", answer.coefficients().index.get_level_values("term"))
        self.assertEqual(answer.forecast(2, others={"rain": [0, 1]}).draws.shape[1:], (2, 2))
        with self.assertRaises(ArgumentError):
            answer.forecast(2)


if __name__ == "__main__":
    unittest.main()
