"""Shapes of counts and yes/no, and along several columns: algebra, answers, odd data, shell."""

import functools
import tempfile
import unittest
from pathlib import Path
from typing import ClassVar

import numpy as np
import pandas as pd

import millwright as mw
from millwright.errors import ArgumentError, DataError
from millwright.studies.smooth_grid import asks_for_a_sampler
from millwright.studies.smooth_process import (
    Hyperparameters,
    Readings,
    covariance,
    function_draws,
    gain,
    gain_of_draws,
    rising,
)
from tests.cli.here import run_here

QUIET = {"progress": False}
LENGTHS = np.array([0.8, 1.6])
LEVEL, HEIGHT = 0.3, 1.2
GRAIN = [0.5, 1.0, 2.0]
MAKE = np.random.default_rng(4)
PLACES = MAKE.uniform(0, 3, (9, 2))


def kernel(a, b):
    apart = (a[:, None] - b) / LENGTHS
    return HEIGHT**2 * np.exp(-0.5 * (apart**2).sum(axis=-1))


def known(count):
    one = np.ones(count)
    return Hyperparameters(
        level=LEVEL * one, height=HEIGHT * one, length=np.tile(LENGTHS, (count, 1)), noise=one
    )


def readings(y, size):
    return Readings(kernel="squared_exponential", x=PLACES, y=y, errors=np.full(9, size))


@functools.cache
def counts():
    make = np.random.default_rng(2)
    day = np.tile(np.arange(1.0, 7.0), 3)
    grain = np.repeat(GRAIN, 6)
    hours = make.integers(1, 4, size=18)
    rate = np.exp(1 + np.sin(day) + 0.4 * grain)
    table = {"day": day, "shape": grain, "sacks": make.poisson(rate * hours), "place": hours}
    made = mw.studies.smooth(table, ["day", "shape"], "sacks", family="poisson", exposure="place")
    return made.fit(seed=1, draws=400, chains=3, **QUIET), rate


def answers(**more):
    make = np.random.default_rng(3)
    day = np.arange(24)
    broke = np.where(make.random(24) < 1 / (1 + np.exp(0.5 * (day - 12.0))), "yes", "no")
    return {"day": day, "broke": broke, **more}


class Scattered(unittest.TestCase):
    """Counts whose own rates vary around the curve: said of Poisson ones, and allowed for."""

    make = np.random.default_rng(3)
    hour = np.sort(make.uniform(0, 10, 24))
    rate = np.exp(2.5 + np.sin(hour))
    own = rate * make.gamma(4, 0.25, 24)
    table = pd.DataFrame({"excess": hour, "sacks": make.poisson(own)})
    steady = pd.DataFrame({"hour": hour, "sacks": make.poisson(rate)})
    fit: ClassVar = {"seed": 1, "draws": 250, "progress": False}

    def test_poisson_counts_that_scatter_too_widely_are_said(self):
        ask = functools.partial(mw.studies.smooth, self.table, "excess", "sacks", family="poisson")
        stiff = ask(priors={"length": "lognormal(1.2, 0.1)"}).fit(**self.fit)
        for found, words in (
            (stiff, "as widely (in variance) as Poisson counts would"),
            (ask().fit(**self.fit), "Counts that vary more than Poisson ones do the same"),
        ):
            told = " ".join(str(found.verdict).split())
            self.assertIn(words, told)
            self.assertIn("family='negative_binomial'", told)
        calm = mw.studies.smooth(self.steady, "hour", "sacks", family="poisson").fit(**self.fit)
        self.assertNotIn("Poisson counts", str(calm.verdict))

    def test_the_curve_of_counts_that_vary_more_covers_their_rate(self):
        study = mw.studies.smooth(self.table, "excess", "sacks", family="negative_binomial")
        self.assertIn("as a share", str(study))
        own = {"excess": "half_normal(0.3)"}
        given = mw.studies.smooth(
            self.table, "excess", "sacks", family="negative_binomial", priors=own
        )
        self.assertNotIn("lognormal(-0.9, 0.5)", str(given))
        # Ends of an interval take more draws than a curve: few are independent here.
        found = study.fit(**{**self.fit, "draws": 400})
        draws = found.curve(self.hour).draws
        low, high = np.quantile(draws, [0.025, 0.975], axis=0)
        inside = (low <= self.rate) & (self.rate <= high)
        self.assertGreater(inside.mean(), 0.85)
        low, high = np.quantile(found.numbers["excess"], [0.025, 0.975])
        self.assertTrue(low < 0.5 < high)
        self.assertLess(found.next_place()["variance less by"].max(), 0.2)


class ByGrid(unittest.TestCase):
    """The usual way to draw a function at each place, and when the sampler takes its place."""

    def test_it_is_stored_and_goes_on(self):
        day = np.arange(10.0)
        table = {"day": day, "sacks": np.random.default_rng(8).poisson(np.exp(1 + np.sin(day)))}
        study = mw.studies.smooth(table, "day", "sacks", family="poisson")
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "run"
            found = study.fit(seed=1, draws=100, save=place, **QUIET)
            self.assertEqual(found.posterior.record.method["method"], "laplace_grid")
            again = mw.studies.resume(place, **QUIET)
        longer = found.extend(50, **QUIET).numbers["height"]
        for other in (again.numbers["height"], longer.reshape(4, 150)[:, :100]):
            np.testing.assert_array_equal(other.ravel(), found.numbers["height"].ravel())

    def test_the_sampler_draws_where_candidates_are_hardly_taken(self):
        halves = {"day": np.arange(20.0), "broke": [0] * 10 + [1] * 10}
        study = mw.studies.smooth(halves, "day", "broke", family="bernoulli")
        self.assertTrue(study.by_grid)
        found = study.fit(seed=1, chains=2, draws=400, **QUIET)
        self.assertEqual(found.posterior.record.method["method"], "no_u_turn")
        self.assertTrue(asks_for_a_sampler({"seed": 1, "warmup": 50}))
        self.assertFalse(asks_for_a_sampler({"seed": 1, "draws": 50, "method": None}))
        flat = mw.studies.smooth(
            halves, "day", "broke", family="bernoulli", priors={"level": "flat()"}
        )
        self.assertFalse(flat.by_grid)


class Algebra(unittest.TestCase):
    def test_two_columns_given_all_that_is_unknown(self):
        y = MAKE.normal(size=9)
        new = np.array([[0.4, 2.0], [1.9, 0.3], [2.5, 2.5]])
        own = kernel(PLACES, PLACES) + 0.04 * np.eye(9)
        tie = kernel(new, PLACES)
        mean = LEVEL + tie @ np.linalg.solve(own, y - LEVEL)
        left = kernel(new, new) - tie @ np.linalg.solve(own, tie.T)
        drawn = function_draws(readings(y, 0.2), known(6000), new, np.random.default_rng(1))
        error = np.sqrt(np.diag(left) / 6000)
        self.assertLess(np.abs((drawn.mean(axis=0) - mean) / error).max(), 4.5)
        np.testing.assert_allclose(np.cov(drawn.T), left, atol=0.06 * left.max())
        for along in (0, 1):
            step = 1e-4 * np.eye(2)[along]
            up, down = (
                LEVEL + kernel(new + s, PLACES) @ np.linalg.solve(own, y - LEVEL)
                for s in (step, -step)
            )
            slopes = function_draws(
                readings(y, 0.2), known(4000), new, np.random.default_rng(2), along
            )
            off = slopes.mean(axis=0) - (up - down) / 2e-4
            self.assertLess(np.abs(off / slopes.std(axis=0)).max() * 4000**0.5, 4.5)
            chance = rising(readings(y, 0.2), known(1), new, along)
            shares = (slopes > 0).mean(axis=0)
            np.testing.assert_allclose(chance, shares, atol=0.035)

    def test_slopes_of_both_sides_are_mixed_derivatives(self):
        a, b, h = PLACES[:4], PLACES[4:], 1e-4

        def of(a, b):
            return covariance("matern52", a, b, LENGTHS[None])[0]

        for along in (0, 1):
            step = h * np.eye(2)[along]
            want = (
                of(a + step, b + step)
                - of(a + step, b - step)
                - of(a - step, b + step)
                + of(a - step, b - step)
            ) / (4 * h * h)
            got = covariance("matern52", a, b, LENGTHS[None], along, both=True)[0]
            np.testing.assert_allclose(got, want, atol=1e-5)

    def test_values_of_a_function_are_met_exactly(self):
        values = LEVEL + np.linalg.cholesky(kernel(PLACES, PLACES) + 1e-9 * np.eye(9)) @ (
            MAKE.normal(size=(9, 5))
        )
        drawn = function_draws(readings(values.T, 1.0), known(5), PLACES, np.random.default_rng(1))
        np.testing.assert_allclose(drawn, values.T, atol=2e-3)

    def test_the_gain_of_draws_is_that_of_algebra(self):
        y, candidates = MAKE.normal(size=9), np.array([[0.5, 0.5], [2.0, 2.9]])
        over = MAKE.uniform(0, 3, (20, 2))
        exact = gain(readings(y, 0.3), known(1), candidates, over, 0.3)
        every = np.concatenate([candidates, over])
        drawn = function_draws(readings(y, 0.3), known(8000), every, np.random.default_rng(5))
        told = np.full(2, 1 / 0.3**2)
        found = gain_of_draws(drawn[:, :2], drawn[:, 2:], told)
        np.testing.assert_allclose(found, exact, rtol=0.08)


class Told(unittest.TestCase):
    def test_rates_along_two_columns_lie_at_the_truth(self):
        found, rate = counts()
        self.assertEqual(list(found.numbers), ["level", "height", "length_1", "length_2"])
        for number, grain in enumerate(GRAIN):
            at = slice(6 * number, 6 * number + 6)
            x = np.arange(1.0, 7.0)
            curve = found.curve(x, along="day", at={"shape": grain})
            # The rows' values are those of the sampled function, up to the draws that are kept.
            shape = np.exp(found.posterior.draws.get("shape"))
            places = np.unique(found.study.rows, axis=0)
            own = [list(map(tuple, places)).index((day, grain)) for day in x]
            sampled = shape.reshape(-1, 18)[:, own]
            np.testing.assert_allclose(curve.median, np.median(sampled, axis=0), rtol=0.12)
            inside = (curve.outer[0] < rate[at]) & (rate[at] < curve.outer[1])
            self.assertGreaterEqual(inside.sum(), 4)
        text = str(found)
        self.assertIn("The rate of `sacks` is highest near day", text)
        self.assertIn("lowers the variance of the log rate", " ".join(text.split()))
        best = found.next_place({"day": [3.0, 12.0], "shape": [0.5, 6.0]})
        self.assertEqual(list(best.columns), ["day", "shape", "variance less by"])

    def test_every_figure_and_storing(self):
        found, _ = counts()
        for figure in ("curve", "slope", "map"):
            with self.subTest(figure):
                self.assertTrue(mw.plots.study(found, figure).axes)
        with tempfile.TemporaryDirectory() as folder:
            found.save(Path(folder) / "rates")
            again = mw.studies.load(Path(folder) / "rates")
            self.assertEqual(again.answer, found.answer)
            place = found.study.write(Path(folder) / "sheets")
            data = pd.read_csv(place / "data.csv")
            binding = mw.Model.read(place / "smooth.toml").bind(data)
            self.assertEqual(binding.dimension, 4 + 18)

    def test_names_of_columns_stay_as_they_are_on_a_map(self):
        make = np.random.default_rng(6)
        table = {"$5": make.uniform(size=9), "🌾": make.uniform(size=9)}
        table["Power (kW)"] = table["$5"] + 0.1 * make.normal(size=9)
        study = mw.studies.smooth(table, ["$5", "🌾"], "Power (kW)")
        found = study.fit(seed=1, draws=40, warmup=100, chains=2, **QUIET)
        drawn = mw.plots.study(found, "map")
        self.assertIn("median of Power (kW)", [axes.get_ylabel() for axes in drawn.axes])
        places = {"🌾": [0.3, 0.3], "$5": [0.2, 0.7]}
        told = found.curve(places, seed=1).to_dataframe()
        self.assertEqual(list(told.columns[:3]), ["$5", "🌾", "median"])
        read = found.new_readings(places, error=0.0, seed=1)
        np.testing.assert_array_equal(told["median"], read.median)
        self.assertIn("$5 = 0.7, 🌾 = 0.3", str(read))
        named = mw.studies.smooth(
            {"median": table["$5"], "P(rising)": table["🌾"], "y": table["Power (kW)"]},
            ["median", "P(rising)"],
            "y",
        )
        drawn = named.prior_curves({"median": [0.2], "P(rising)": [0.3]}, seed=1).to_dataframe()
        self.assertEqual(list(drawn.columns[:3]), ["median (place)", "P(rising)", "median"])

    def test_a_table_of_places_is_curves_with_the_other_column_held(self):
        found, _ = counts()
        places = pd.DataFrame({"shape": [0.5, 0.5], "other": ["a", "b"], "day": [2.0, 5.0]})
        for ask in (found.curve, found.slope, found.study.prior_curves):
            one = ask(places).draws
            np.testing.assert_array_equal(one, ask([2.0, 5.0], at={"shape": 0.5}).draws)
        rising = found.rising(places)
        self.assertEqual(list(rising.columns), ["day", "shape", "P(rising)"])
        other = found.rising([2.0, 5.0], at={"shape": 0.5})
        np.testing.assert_array_equal(rising["P(rising)"], other["P(rising)"])

    def test_yes_and_no_from_the_shell(self):
        with tempfile.TemporaryDirectory() as folder:
            pd.DataFrame(answers()).to_csv(Path(folder) / "wheel.csv", index=False)
            call = ("study", "smooth", "wheel.csv", "--x", "day", "--y", "broke")
            few = ("--draws", 300, "--chains", 2)
            done = run_here(*call, "--family", "bernoulli", *few, "-q", cwd=folder)
            self.assertIn(done.returncode, (0, 1), done.stderr)
            self.assertIn("The probability of `broke` is highest near day", done.stdout)
            self.assertIn("It falls, with probability above 0.95", done.stdout)

    def test_what_is_refused(self):
        table = answers(count=np.arange(24), hours=np.full(24, 0), other=np.arange(24) % 3)
        for error, words, given in (
            (ArgumentError, "poisson, negative_binomial, bernoulli", {"family": "poison"}),
            (ArgumentError, "normal noise", {"family": "poisson", "error": "count"}),
            (ArgumentError, "is for counts", {"exposure": "count"}),
            (DataError, "exposures must be above 0", {"family": "poisson", "exposure": "hours"}),
            (DataError, "0 or 1", {"family": "bernoulli"}),
            (DataError, "0 in all rows", {"family": "poisson", "y": "hours"}),
            (ArgumentError, "two things", {"x": ["day", "day"]}),
            (ArgumentError, "names a column", {"x": []}),
        ):
            with self.subTest(words), self.assertRaisesRegex(error, words):
                mw.studies.smooth(**{"data": table, "x": "day", "y": "count", **given})
        found, _ = counts()
        table = {"day": [1.0], "shape": [2.0]}
        for bad in (
            {"along": "grain"},
            {"at": {"day": 1}},
            {"at": {"shape": "a"}},
            # Neither two numbers nor two places.
            {"x": np.ones((2, 2))},
            {"x": {"day": [1.0]}},
            {"x": {**table, "day": [np.nan]}},
            {"x": table, "at": {"shape": 2.0}},
        ):
            with self.subTest(bad), self.assertRaises(ArgumentError):
                found.curve(**bad)
        with self.assertRaises(ArgumentError):
            found.next_place([1, 2])


if __name__ == "__main__":
    unittest.main()
