"""Rows of a shape gathered at nodes: against the rows themselves, and said where they lose."""

import functools
import tempfile
import unittest
from pathlib import Path

import numpy as np
import pandas as pd

import millwright as mw
from millwright.errors import ArgumentError, ModelError
from millwright.studies.smooth_gathering import NEGLIGIBLE, enough_nodes, gathered
from millwright.studies.smooth_process import covariance
from tests.cli.here import run_here

MAKE = np.random.default_rng(1)
X = MAKE.uniform(-3, 7, 150)
ERRORS = MAKE.uniform(0.2, 0.6, 150)
ROWS = 54
Y = 2 + np.sin(X) + ERRORS * MAKE.normal(size=150)


def normal_log_density(x, y, errors, kernel, height, length):
    own = height**2 * covariance(kernel, x, x, np.array([[length]]))[0] + np.diag(errors**2)
    _, size = np.linalg.slogdet(own)
    return -0.5 * ((y - 2) @ np.linalg.solve(own, y - 2) + size + len(x) * np.log(2 * np.pi))


def at_nodes(made, kernel, height, length, noise):
    """The log density of the rows by the nodes."""
    errors = made.errors * (1.0 if noise is None else noise)
    text = made.term(None if noise is None else "noise")
    rest = float(eval(text, {"log": np.log, "noise": noise}))
    return normal_log_density(made.nodes, made.values, errors, kernel, height, length) + rest


@functools.cache
def table():
    # A generator of its own: the rows are the same whichever test asks first.
    make = np.random.default_rng(3)
    x = np.sort(make.uniform(0, 10, ROWS))
    return {"class": x, "noise": np.sin(x) + 0.3 * make.normal(size=ROWS)}


@functools.cache
def found(nodes=None):
    study = mw.studies.smooth(table(), "class", "noise", nodes=nodes)
    return study.fit(seed=1, chains=2, draws=800, warmup=400, progress=False)


class Exact(unittest.TestCase):
    def test_the_log_density_of_all_rows(self):
        for noise in (None, 0.7):
            weights = ERRORS**-2.0 if noise is None else np.ones(150)
            made = gathered(X, Y, weights, 40)
            errors = ERRORS if noise is None else np.full(150, noise)
            for height, length in ((1.0, 1.5), (2.0, 3.0), (0.4, 8.0)):
                with self.subTest(noise=noise, length=length):
                    case = ("squared_exponential", height, length)
                    rows = normal_log_density(X, Y, errors, *case)
                    self.assertAlmostEqual(at_nodes(made, *case, noise), rows, delta=2e-7)

    def test_places_that_repeat_are_their_own_nodes(self):
        x = np.repeat([0.0, 1.0, 2.5, 7.0], 10)
        y = np.sin(x) + MAKE.normal(size=40)
        made = gathered(x, y, np.ones(40), 40)
        np.testing.assert_allclose(made.nodes, [0, 1, 2.5, 7], atol=1e-12)
        np.testing.assert_allclose(made.values, y.reshape(4, 10).mean(axis=1))
        np.testing.assert_allclose(made.errors, 10**-0.5)
        # Rough functions too: nothing lies between the nodes.
        case = ("matern32", 1.0, 0.3)
        rows = normal_log_density(x, y, np.full(40, 0.7), *case)
        self.assertAlmostEqual(at_nodes(made, *case, 0.7), rows, places=7)

    def test_what_is_lost_bounds_the_error(self):
        for kernel, length in (("matern32", 1.0), ("matern52", 0.7), ("squared_exponential", 0.5)):
            made = gathered(X, Y, np.ones(150), 24)
            lost = made.lost(kernel, 1.0, length, 0.4)
            rows = normal_log_density(X, Y, np.full(150, 0.4), kernel, 1.0, length)
            with self.subTest(kernel=kernel, lost=lost):
                self.assertGreater(lost, NEGLIGIBLE)
                self.assertLess(abs(at_nodes(made, kernel, 1.0, length, 0.4) - rows), lost)

    def test_enough_nodes_are_few_for_smooth_curves_and_many_for_rough_ones(self):
        few, lost = enough_nodes("squared_exponential", X, Y, ERRORS**-2.0, True)
        self.assertLess(lost, NEGLIGIBLE)
        self.assertLessEqual(len(few.nodes), 32)
        rough = np.cumsum(MAKE.normal(size=150))[np.argsort(np.argsort(X))]
        many, lost = enough_nodes("matern32", X, rough, np.full(150, 9.0), True)
        self.assertGreater(lost, NEGLIGIBLE)
        self.assertGreater(len(many.nodes), 64)


@functools.cache
def counted(nodes=None):
    make = np.random.default_rng(7)
    x = np.sort(make.uniform(0, 10, 48))
    hours = make.integers(1, 4, 48)
    frame = {"node": x, "shares": make.poisson(np.exp(1 + np.sin(x)) * hours), "hours": hours}
    study = mw.studies.smooth(
        frame, "node", "shares", family="poisson", exposure="hours", nodes=nodes
    )
    return study.fit(seed=1, chains=2, draws=400, progress=False)


class Counts(unittest.TestCase):
    def test_nodes_agree_with_every_place(self):
        few, every = counted(), counted(0)
        self.assertLess(len(few.study.readings.x), 40)
        self.assertEqual(len(every.study.readings.x), 48)
        self.assertLess(few.lost, 0.3)
        one, other = (
            answer.posterior.table().loc[["level", "height", "length"]] for answer in (few, every)
        )
        errors = np.hypot(
            *(each["sd"] / np.sqrt(each["effective draws"]) for each in (one, other))
        )
        self.assertLess((abs(one["mean"] - other["mean"]) / errors).max(), 4.5)
        places = [0.5, 4.0, 9.0]
        near = [np.log(answer.curve(places).draws) for answer in (few, every)]
        sd = near[1].std(axis=0)
        self.assertLess((abs(near[0].mean(axis=0) - near[1].mean(axis=0)) / sd).max(), 0.3)
        np.testing.assert_allclose(near[0].std(axis=0) / sd, 1, atol=0.2)

    def test_the_model_finds_its_nodes_from_the_shares(self):
        study = counted().study
        made = study.gathered
        np.testing.assert_allclose(made.shares.sum(axis=1), 1.0, atol=1e-6)
        nodes = counted().posterior["node"].values[0, 0]
        np.testing.assert_allclose(nodes, made.nodes, rtol=1e-9)
        # Any polynomial of so low a degree is met at every row.
        np.testing.assert_allclose(made.shares @ made.nodes**3, made.x**3, rtol=1e-6, atol=1e-6)

    def test_it_is_stored_and_the_sheet_binds(self):
        with tempfile.TemporaryDirectory() as folder:
            counted().save(Path(folder) / "rates")
            self.assertEqual(str(mw.studies.load(Path(folder) / "rates")), str(counted()))
            place = counted().study.write(Path(folder) / "sheets")
            binding = mw.Model.read(place / "smooth.toml").bind(pd.read_csv(place / "data.csv"))
            self.assertEqual(binding.dimension, 3 + len(counted().study.readings.x))
        self.assertTrue(mw.plots.study(counted(), "curve").axes)
        self.assertIn("Model `smooth`", str(counted().study.simulate(draws=20, seed=1)))

    def test_yes_and_no_at_many_places(self):
        x = np.arange(400.0)
        answers = (np.random.default_rng(3).random(400) < 0.5 + 0.4 * np.sin(x / 60)).astype(int)
        study = mw.studies.smooth({"x": x, "y": answers}, "x", "y", family="bernoulli")
        self.assertLess(len(study.readings.x), 49)
        self.assertIn("values at the nodes of a Gauss rule", " ".join(study.choices))
        self.assertEqual(
            study.model.bind(study.data_of("smooth")).dimension, 3 + len(study.readings.x)
        )


class Told(unittest.TestCase):
    def test_it_agrees_with_every_row(self):
        study = found().study
        self.assertLess(len(study.readings.x), 40)
        self.assertIn("The 54 rows are gathered into", " ".join(study.choices))
        self.assertLess(found().lost, NEGLIGIBLE)
        self.assertTrue(found().verdict.good, str(found().verdict))
        rows = found(0)
        self.assertIsNone(rows.study.gathered)
        one, other = (answer.posterior.table() for answer in (found(), rows))
        errors = np.hypot(
            *(each["sd"] / np.sqrt(each["effective draws"]) for each in (one, other))
        )
        self.assertLess((abs(one["mean"] - other["mean"]) / errors).max(), 4.5)
        np.testing.assert_allclose(one["sd"], other["sd"], rtol=0.25)
        near = found().curve([1.0, 5.0, 12.0]), rows.curve([1.0, 5.0, 12.0])
        np.testing.assert_allclose(near[0].median, near[1].median, atol=0.1)

    def test_new_readings_have_the_noise_beside_the_curve(self):
        places = [1.0, 5.0]
        drawn = found().new_readings(places, error=2.0, seed=1)
        curve = found().curve(places, seed=1)
        noise = found().posterior["noise"].mean().item()
        spread = (drawn.draws - curve.draws).std()
        self.assertAlmostEqual(spread / (2 * noise), 1.0, delta=0.12)
        with self.assertRaises(ArgumentError):
            found().new_readings(places, error=-1)

    def test_it_is_stored_drawn_simulated_and_scores_of_rows_are_refused(self):
        with tempfile.TemporaryDirectory() as folder:
            found().save(Path(folder) / "shape")
            self.assertEqual(str(mw.studies.load(Path(folder) / "shape")), str(found()))
        for figure in ("curve", "prior"):
            self.assertTrue(mw.plots.study(found(), figure).axes)
        simulated = found().study.simulate(draws=20, seed=1)["smooth"]
        self.assertEqual(simulated.outcomes["noise_"].shape, (20, ROWS))
        with self.assertRaisesRegex(ModelError, "row by row"):
            found().posterior.leave_one_out()

    def test_what_nodes_leave_out_is_said(self):
        x = np.linspace(0, 10, 300)
        make = np.random.default_rng(2)
        y = np.cumsum(make.normal(size=300)) + 0.1 * make.normal(size=300)
        study = mw.studies.smooth({"x": x, "y": y}, "x", "y", kernel="matern32", nodes=12)
        answer = study.fit(seed=1, draws=200, warmup=300, progress=False)
        self.assertGreater(answer.lost, 1)
        self.assertIn("The 12 nodes at which 300 rows are gathered leave out", str(answer))
        self.assertIn("nodes=24", str(answer))

    def test_bad_numbers_of_nodes_and_the_shell(self):
        for nodes in (3, -1, 2.5, True, "many"):
            with self.subTest(nodes=nodes), self.assertRaisesRegex(ArgumentError, "`nodes`"):
                mw.studies.smooth(table(), "class", "noise", nodes=nodes)
        with self.assertRaisesRegex(ArgumentError, "along one column"):
            mw.studies.smooth({**table(), "k": np.arange(ROWS)}, ["class", "k"], "noise", nodes=10)
        with tempfile.TemporaryDirectory() as folder:
            pd.DataFrame(table()).to_csv(Path(folder) / "t.csv", index=False)
            call = ("study", "smooth", "t.csv", "--x", "class", "--y", "noise", "--plan")
            done = run_here(*call, "--nodes", 20, cwd=folder)
            self.assertIn("gathered into 20 readings", " ".join(done.stdout.split()))


if __name__ == "__main__":
    unittest.main()
