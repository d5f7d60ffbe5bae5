"""Densities of the user's own: traceable or black boxes, with everything that a model has."""

import tempfile
import unittest
from pathlib import Path

import jax.numpy as jnp
import numpy as np
from scipy import stats

import millwright as mw
from millwright.errors import ArgumentError, MillwrightError, ModelError, StartError
from tests.fits import assert_mean_near


def gamma_like(rate, shift):
    """Exponential with mean 2 in `rate`, normal around 3 in `shift`."""
    return -0.5 * rate - 0.5 * (shift - 3) ** 2


TARGET = mw.Target(gamma_like, {"rate": "positive", "shift": "real"}, title="Two parts")


class Kinds(unittest.TestCase):
    def test_traceable_black_box_and_vectorised_agree_with_the_truth(self):
        unknowns = {"rate": "positive", "shift": "real"}
        for settings in (
            {},
            {"black_box": True},
            {"black_box": True, "vectorised": True, "method": "ensemble"},
        ):
            with self.subTest(settings=settings):
                method = settings.pop("method", None)
                target = mw.Target(gamma_like, unknowns, **settings)
                fit = target.fit(draws=400, warmup=400, seed=1, method=method, progress=False)
                assert_mean_near(self, fit.draws.get("rate"), 2.0)
                assert_mean_near(self, fit.draws.get("shift"), 3.0)

    def test_the_short_way_of_black_boxes_gives_the_same_density(self):
        from millwright.fitting.target import target_of

        unknowns = {"a": "real", "b": "positive", "c": (-1, 4), "d": (-np.inf, 2)}

        def density(a, b, c, d):
            return -(a**2) - b - 2 * c**2 + d

        positions = np.random.default_rng(1).standard_normal((5, 4))
        values = [
            target_of(mw.Target(density, unknowns, black_box=box).bind(None)).plain(positions)
            for box in (False, True)
        ]
        np.testing.assert_allclose(values[1], values[0], rtol=1e-12)

    def test_where_rounding_makes_a_density_infinite_no_chain_stays(self):
        settings = {"draws": 500, "warmup": 500, "seed": 1, "progress": False}
        for target, method in (
            (
                mw.Target(
                    lambda x: jnp.where(jnp.abs(x) > 2.5, jnp.inf, -(x**2) / 2), {"x": "real"}
                ),
                None,
            ),
            (
                mw.Target(
                    lambda x: np.inf if abs(x) > 2.5 else -(x**2) / 2,
                    {"x": "real"},
                    black_box=True,
                ),
                "random_walk",
            ),
        ):
            found = target.fit(method=method, **settings).draws.get("x")
            self.assertLess(np.abs(found).max(), 2.5)
            cut = stats.truncnorm(-2.5, 2.5)
            self.assertAlmostEqual(found.std(), cut.std(), delta=0.15)

    def test_priors_labels_and_fixed_values(self):
        def density(effect, spread, offset):
            return -0.5 * jnp.sum((effect - offset) ** 2) / spread**2

        target = mw.Target(
            density,
            {"effect": "normal(0, 1) per stone", "spread": 1.0, "offset": "real"},
            labels={"stone": ["Upper", "Nether"]},
        )
        fit = target.fit(draws=300, warmup=300, seed=2, progress=False)
        self.assertEqual(list(fit["effect"]["stone"].values), ["Upper", "Nether"])
        # Without data on it the offset follows the effects: normal with variance 1/2 + 1/2.
        assert_mean_near(self, fit.draws.get("offset"), 0.0)

    def test_a_supports_ends_hold(self):
        target = mw.Target(lambda x: 0.0 * x, {"x": (2, 5)})
        fit = target.fit(draws=300, warmup=200, progress=False)
        self.assertTrue(((fit["x"] > 2) & (fit["x"] < 5)).all())
        assert_mean_near(self, fit.draws.get("x"), 3.5)


class Afterwards(unittest.TestCase):
    def test_description_mode_and_pictures_work(self):
        self.assertIn("improper", TARGET.describe())
        mode = TARGET.mode()
        self.assertAlmostEqual(mode["shift"], 3.0, places=6)
        self.assertIn("rate", TARGET.latex())

    def test_a_stored_run_loads_without_the_function_and_goes_on_with_it(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "run"
            fit = TARGET.fit(draws=50, warmup=100, seed=4, save=path, progress=False)
            loaded = mw.load(path)
            np.testing.assert_array_equal(loaded["rate"], fit["rate"])
            longer = mw.resume(path, draws=80, model=TARGET, progress=False)
            self.assertEqual(longer.draws.shape, (4, 80))
            other = mw.Target(
                lambda rate, shift: -rate - shift**2, {"rate": "positive", "shift": "real"}
            )
            with self.assertRaisesRegex(ModelError, "not the density"):
                mw.resume(path, draws=100, model=other, progress=False)

    def test_nothing_is_simulated_from_an_improper_prior(self):
        for call in (
            lambda: TARGET.simulate(rows=1),
            lambda: TARGET.fit(draws=50, warmup=50, progress=False).prior(),
            lambda: TARGET.fit(draws=50, warmup=50, progress=False).predictive_check(),
            lambda: TARGET.fit(draws=50, warmup=50, progress=False).predict(),
        ):
            with self.assertRaises(ModelError):
                call()


class BadInput(unittest.TestCase):
    def test_arguments_that_make_no_sense(self):
        for call, words in (
            (lambda: mw.Target(3, {"x": "real"}), "must be a function"),
            (lambda: mw.Target(gamma_like, {}), "mapping of names"),
            (lambda: mw.Target(gamma_like, {"x": (3, 1)}), "pair of"),
            (lambda: mw.Target(gamma_like, {"x": None}), "pair of"),
            (lambda: mw.Target(gamma_like, {"x": "real"}, vectorised=True), "black boxes"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(ArgumentError, words):
                call()

    def test_functions_that_fail(self):
        def broken(x):
            raise ZeroDivisionError("no grain")

        for function, settings, words in (
            (broken, {"black_box": True}, "no grain"),
            (lambda x: np.exp(float(x)), {}, "cannot be traced"),
            (lambda x: x[:1], {"black_box": True, "vectorised": True}, "one value for each"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(ModelError, words):
                mw.Target(function, {"x": "real"}, **settings).fit(progress=False)

    def test_a_density_that_is_nowhere_finite(self):
        with self.assertRaisesRegex(StartError, "`target`"):
            mw.Target(lambda x: jnp.nan * x, {"x": "real"}).fit(progress=False)


class SeveralAtOnce(unittest.TestCase):
    def test_a_stored_run_never_calls_the_function_of_another_target(self):
        first = mw.Target(lambda x: -0.5 * (x - 3.0) ** 2, {"x": "real"})
        second = mw.Target(lambda x: -0.5 * (x + 3.0) ** 2, {"x": "real"})
        third = mw.Target(lambda x, y: -0.5 * (x**2 + y**2), {"x": "real", "y": "real"})
        with tempfile.TemporaryDirectory() as folder:
            for name, target in (("second", second), ("third", third)):
                with self.subTest(name=name):
                    place = Path(folder) / name
                    fitted = target.fit(draws=40, warmup=100, seed=1, progress=False, save=place)
                    longer = fitted.extend(20, progress=False)
                    stored = mw.load(place)
                    np.testing.assert_array_equal(stored["x"], fitted["x"])
                    with self.assertRaisesRegex(ModelError, "model="):
                        mw.resume(place, draws=60, progress=False)
                    again = mw.resume(place, draws=60, model=target, progress=False)
                    np.testing.assert_array_equal(again["x"], longer["x"])
                    with self.assertRaises(MillwrightError):
                        mw.resume(place, draws=80, model=first, progress=False)


class Edges(unittest.TestCase):
    """A density that is 0 beyond an edge, of a function that only the target knows."""

    TARGET = mw.Target(
        lambda x: jnp.where(x < 1, 8 * jnp.log(jnp.where(x < 1, 1 - x, 1.0)), -jnp.inf) + 30 * x,
        {"x": "normal(0, 1)"},
    )

    def test_the_mode_beside_an_edge_is_found(self):
        # 30 x + 8 log(1 - x) - x^2 / 2: its slope is 0 where 30 - 8 / (1 - x) - x = 0.
        exact = (31 - np.sqrt(31**2 - 4 * 22)) / 2
        self.assertAlmostEqual(float(self.TARGET.mode()["x"]), exact, places=5)

    def test_a_term_that_cuts_the_prior_is_never_weighed(self):
        found = self.TARGET.fit(seed=1, draws=300, progress=False, method="random_walk")
        with self.assertRaisesRegex(ModelError, "cuts the priors"):
            found.bayes_factor("x < 0.5")

    def test_a_run_alone_draws_nothing_with_a_function_it_does_not_know(self):
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "run"
            found = self.TARGET.fit(
                seed=1, draws=40, warmup=100, progress=False, method="random_walk", save=place
            )
            alone = mw.load(place)
            np.testing.assert_array_equal(alone["x"], found["x"])
            with self.assertRaisesRegex(ModelError, "needs the function `log_density`"):
                alone.extend(10, progress=False)
            known = mw.load(place, model=self.TARGET).extend(10, progress=False)
            longer = found.extend(10, progress=False)
            np.testing.assert_array_equal(known["x"], longer["x"])


if __name__ == "__main__":
    unittest.main()
