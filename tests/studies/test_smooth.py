"""Shapes without a formula: exact algebra, quadrature over what is unknown, odd data, shell."""

import functools
import tempfile
import unittest
from pathlib import Path

import numpy as np
from scipy import stats

import millwright as mw
from millwright.errors import ArgumentError, DataError
from millwright.fitting.target import target_of
from millwright.sampling.mode import Slopes
from millwright.studies.smooth_prior import length_prior
from millwright.studies.smooth_process import (
    KERNELS,
    Hyperparameters,
    Readings,
    function_draws,
    gain,
    prior_draws,
    rising,
)
from tests.cli.here import run_here

QUIET = {"progress": False}
WHEELS = mw.demo.load("two_wheels").frame
UPPER = WHEELS[WHEELS["wheel"] == "upper"].reset_index(drop=True)
X = np.array([0.0, 0.7, 1.1, 1.1, 2.6, 3.0])
Y = np.array([0.2, 1.0, 1.3, 1.1, -0.4, -0.7])
LEVEL, HEIGHT, LENGTH, NOISE = 0.3, 1.2, 0.9, 0.2


def kernel(name, d):
    r = np.abs(d) / LENGTH
    if name == "squared_exponential":
        return np.exp(-0.5 * r**2)
    if name == "matern32":
        return (1 + np.sqrt(3) * r) * np.exp(-np.sqrt(3) * r)
    return (1 + np.sqrt(5) * r + 5 / 3 * r**2) * np.exp(-np.sqrt(5) * r)


def exact(name, places, x=X, y=Y):
    """Mean and covariance of the function at places, by dense algebra."""
    own = HEIGHT**2 * kernel(name, x[:, None] - x) + NOISE**2 * np.eye(len(x))
    tie = HEIGHT**2 * kernel(name, places[:, None] - x)
    mean = LEVEL + tie @ np.linalg.solve(own, y - LEVEL)
    among = HEIGHT**2 * kernel(name, places[:, None] - places)
    return mean, among - tie @ np.linalg.solve(own, tie.T)


def differences(name, places, h):
    """Mean and sd of the slope at places, by differences of the function."""
    around = np.column_stack([places - h, places + h]).reshape(-1)
    middle, spread = exact(name, around)
    ways = np.kron(np.eye(len(places)), [[-1.0, 1.0]]) / (2 * h)
    return ways @ middle, np.sqrt(np.diag(ways @ spread @ ways.T))


def same(count):
    values = {"level": LEVEL, "height": HEIGHT, "length": LENGTH, "noise": NOISE}
    return Hyperparameters(**{key: np.full(count, value) for key, value in values.items()})


def readings(name, x=X, y=Y):
    return Readings(kernel=name, x=x, y=y, errors=np.ones(len(x)))


@functools.cache
def found():
    return mw.studies.smooth(UPPER, "flow", "power").fit(seed=1, draws=500, **QUIET)


class Algebra(unittest.TestCase):
    def test_functions_and_slopes_given_all_that_is_unknown(self):
        places, count = np.array([0.4, 1.9, 4.0]), 6000
        for name in KERNELS:
            with self.subTest(name):
                generator = np.random.default_rng(3)
                mean, whole = exact(name, places)
                drawn = function_draws(readings(name), same(count), places, generator)
                error = np.sqrt(np.diag(whole) / count)
                self.assertTrue((np.abs(drawn.mean(axis=0) - mean) < 4.5 * error).all())
                np.testing.assert_allclose(np.cov(drawn.T), whole, atol=0.08 * whole.max())
                slope, wide = differences(name, places, 1e-3)
                slopes = function_draws(readings(name), same(count), places, generator, along=0)
                off = np.abs(slopes.mean(axis=0) - slope)
                self.assertTrue((off < 4.5 * wide / np.sqrt(count) + 1e-3).all())
                np.testing.assert_allclose(slopes.std(axis=0), wide, rtol=0.06)
                # Nearer places: the slope of a rough kernel has no slope itself.
                slope, wide = differences(name, places, 1e-5)
                chance = rising(readings(name), same(1), places)
                np.testing.assert_allclose(chance, stats.norm.cdf(slope / wide), atol=1e-4)

    def test_before_any_reading(self):
        drawn = prior_draws("matern52", same(6000), np.array([0.0, 1.0]), np.random.default_rng(1))
        np.testing.assert_allclose(drawn.mean(axis=0), LEVEL, atol=0.07)
        whole = HEIGHT**2 * kernel("matern52", np.array([[0.0, 1.0], [1.0, 0.0]]))
        np.testing.assert_allclose(np.cov(drawn.T), whole, atol=0.1)

    def test_a_further_reading_lowers_the_variance_as_told(self):
        places = np.linspace(0, 3, 7)
        candidates = np.array([1.8, 1.1])
        told = gain(readings("matern32"), same(1), candidates, places, 1.0)
        now = np.diag(exact("matern32", places)[1]).mean()
        for place, share in zip(candidates, told, strict=True):
            _, then = exact("matern32", places, np.append(X, place), np.append(Y, 0.0))
            self.assertAlmostEqual(share, 1 - np.diag(then).mean() / now, places=9)

    def test_many_readings_of_rough_kernels_in_order(self):
        make = np.random.default_rng(8)
        x = make.permutation(np.append(np.linspace(0, 3, 109), 1.5))
        y = np.sin(2 * x) + make.normal(0, NOISE, 110)
        places = np.array([2.2, -0.5, 1.5])
        for name in ("matern32", "matern52"):
            given = Readings(kernel=name, x=x, y=y, errors=np.ones(110))
            self.assertTrue(given.in_order)
            mean, whole = exact(name, places, x, y)
            drawn = function_draws(given, same(3000), places, np.random.default_rng(1))
            off = (drawn.mean(axis=0) - mean) / np.sqrt(np.diag(whole) / 3000)
            self.assertLess(np.abs(off).max(), 4)
            told = gain(given, same(1), np.array([2.9]), places, 1.0)[0]
            _, then = exact(name, places, np.append(x, 2.9), np.append(y, 0.0))
            self.assertAlmostEqual(told, 1 - np.trace(then) / np.trace(whole), places=8)
        study = mw.studies.smooth({"x": x, "y": y}, "x", "y", kernel="matern32")
        self.assertIsNone(study.gathered)
        self.assertIn(
            "110 rows are gone through one after the other", " ".join(str(study).split())
        )

    def test_usual_lengths_lie_between_spacing_and_span(self):
        for span, spacing in ((10.0, 0.5), (3.0, 0.01), (5.0, 4.0)):
            shape, scale = length_prior(span, spacing)
            ends = stats.invgamma.ppf([0.01, 0.99], shape, scale=scale)
            self.assertAlmostEqual(ends[1] / span, 1, delta=0.03)
            if span / spacing > 2.5:
                self.assertAlmostEqual(ends[0] / spacing, 1, delta=0.03)
        model = mw.studies.smooth(UPPER, "flow", "power").model.specification
        self.assertEqual(
            {part.name: part.text for part in model.priors},
            {
                "level": "normal(6.81, 3.64)",
                "height": "half_normal(3.64)",
                "length": "inverse_gamma(shape=2.47, scale=1.42)",
                "noise": "half_normal(3.64)",
            },
        )


class Right(unittest.TestCase):
    def test_the_curve_with_all_unknowns_integrated_out(self):
        held = {
            "level": LEVEL,
            "noise": NOISE,
            "height": "half_normal(2)",
            "length": "uniform(low=0.2, high=4)",
        }
        study = mw.studies.smooth({"x": X, "y": Y}, "x", "y", kernel="matern52", priors=held)
        fit = study.fit(seed=2, draws=800, **QUIET)
        heights, lengths = np.linspace(0.02, 6, 90), np.linspace(0.2, 4, 70)
        place = np.array([1.9])
        total = np.zeros(3)
        for length in lengths:
            d = np.abs(X[:, None] - X) / length
            shape = (1 + np.sqrt(5) * d + 5 / 3 * d**2) * np.exp(-np.sqrt(5) * d)
            e = np.abs(place - X) / length
            across = (1 + np.sqrt(5) * e + 5 / 3 * e**2) * np.exp(-np.sqrt(5) * e)
            for height in heights:
                whole = height**2 * shape + NOISE**2 * np.eye(6)
                weight = np.exp(
                    stats.multivariate_normal.logpdf(Y, np.full(6, LEVEL), whole) - height**2 / 8
                )
                mean = LEVEL + height**2 * across @ np.linalg.solve(whole, Y - LEVEL)
                total += weight * np.array([1.0, mean, length])
        drawn = fit.curve(place, draws=2000).draws[:, 0]
        error = 4 * drawn.std() / np.sqrt(1000)
        self.assertAlmostEqual(drawn.mean(), total[1] / total[0], delta=error)
        kept = fit.posterior["length"].values
        error = 4 * kept.std() / np.sqrt(fit.posterior.table().loc["length", "effective draws"])
        self.assertAlmostEqual(kept.mean(), total[2] / total[0], delta=error)

    def test_it_agrees_with_predictions_of_the_model(self):
        places = [0.5, 3.2, 6.0]
        table = found().posterior.predict({"flow": places}).table()
        curve = found().curve(places, draws=2000)
        wide = curve.draws.std(axis=0)
        np.testing.assert_allclose(table["mean"], curve.draws.mean(axis=0), atol=0.15 * wide.max())
        self.assertTrue((np.diff(wide[1:]) > 0).all())

    def test_where_it_rises(self):
        chance = found().rising([2.0, 3.0])["P(rising)"]
        self.assertTrue((chance > 0.99).all())
        # Where the answer says that it rises is where the table and the figure do.
        every = found().rising()
        sure = every["x"][every["P(rising)"] > 0.95]
        self.assertIn(f"for flow {sure.min():.2f} to {sure.max():.2f}", str(found()))
        self.assertIn("It rises, with probability above 0.95", str(found()))
        self.assertIn("Another reading would help most near flow", str(found()))
        best = found().next_place()
        self.assertTrue(np.all(np.diff(best["variance less by"]) <= 0))
        flat = np.random.default_rng(4).normal(size=30)
        level = mw.studies.smooth({"x": np.arange(30), "y": flat}, "x", "y")
        self.assertIn(
            "At no place is it sure", str(level.fit(seed=1, draws=300, warmup=300, **QUIET))
        )


class Told(unittest.TestCase):
    def test_errors_that_are_given_store_and_figures(self):
        odd = UPPER.rename(columns={"flow": "length", "power": "Power (kW)", "error": "noise"})
        study = mw.studies.smooth(odd, "length", "Power (kW)", "noise", kernel="matern32")
        fit = study.fit(seed=1, draws=300, warmup=400, chains=3, **QUIET)
        self.assertEqual(list(fit.numbers), ["level", "height", "length"])
        for figure in ("curve", "slope", "prior", "unknowns"):
            self.assertTrue(mw.plots.study(fit, figure).axes)
        with tempfile.TemporaryDirectory() as folder:
            fit.save(Path(folder) / "shape")
            self.assertEqual(str(mw.studies.load(Path(folder) / "shape")), str(fit))

    def test_many_rows_side_by_side_come_back(self):
        # 32 matrices of 200 rows at once: how modes are searched for before sampling.
        rng = np.random.default_rng(5)
        x = np.sort(rng.uniform(0, 10, 200))
        study = mw.studies.smooth(
            {"x": x, "y": np.sin(x) + rng.normal(size=200)}, "x", "y", nodes=0
        )
        target = target_of(study.model.bind(study.data))
        positions = target.starts(np.random.default_rng(1), 32)
        values, _ = Slopes(target)(positions)
        np.testing.assert_allclose(-values[:3], target.plain(positions[:3]), rtol=1e-8)

    def test_from_the_shell(self):
        with tempfile.TemporaryDirectory() as folder:
            UPPER.to_csv(Path(folder) / "upper.csv", index=False)
            call = ("study", "smooth", "upper.csv", "--x", "flow", "--y", "power")
            done = run_here(
                *call, "--draws", 200, "--warmup", 300, "--kernel", "matern52", "-q", cwd=folder
            )
            self.assertIn(done.returncode, (0, 1), done.stderr)
            self.assertIn("What shape has `power` along `flow`?", done.stdout)
            wrong = run_here(*call, "--kernel", "matern", cwd=folder)
            self.assertIn("`kernel` is squared_exponential, matern32, matern52", wrong.stderr)

    def test_what_is_refused(self):
        for error, words, given in (
            (DataError, "three or more", {"data": {"x": [1, 1, 2, 2], "y": [1, 2, 3, 4]}}),
            (DataError, "four or more", {"data": {"x": [1, 2, 3], "y": [1, 2, 3]}}),
            (DataError, "All 4 values", {"data": {"x": [1, 2, 3, 4], "y": [1, 1, 1, 1]}}),
            (DataError, "row 2; standard errors", {"error": "e"}),
            (ArgumentError, "two things", {"error": "y"}),
            (ArgumentError, "Did you mean `noise`", {"priors": {"noize": 1}}),
        ):
            with self.subTest(words), self.assertRaisesRegex(error, words):
                data = {"x": [1, 2, 3, 4], "y": [1, 2, 4, 3], "e": [1, 0, 1, 1]}
                mw.studies.smooth(**{"data": data, "x": "x", "y": "y", **given})
        for bad in ({"x": "a"}, {"x": [np.nan]}, {"draws": 0}, {"seed": -1}):
            with self.subTest(bad), self.assertRaises(ArgumentError):
                found().curve(**bad)
        with self.assertRaises(ArgumentError):
            found().next_place(error=-1)


if __name__ == "__main__":
    unittest.main()
